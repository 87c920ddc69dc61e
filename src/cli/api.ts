/** The command line's way to the service: who is signed in where, calls, live streams. */
import { execFileSync } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { createReadStream, mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { homedir, hostname } from 'node:os';
import { dirname, join } from 'node:path';
import { Readable } from 'node:stream';
import { CodedError, type ErrorCode, type IssueData } from '../core/errors/errors.js';
import type { PageOf, Problem } from '../wire/parts.js';
import type { Project } from '../wire/projects.js';

export interface SignedIn {
  url: string;
  token: string;
}

const configFile = (): string =>
  join(process.env.XDG_CONFIG_HOME || join(homedir(), '.config'), 'tsunagi', 'sign-in.json');

export function signedIn(): SignedIn {
  if (process.env.TSUNAGI_URL && process.env.TSUNAGI_TOKEN)
    return { url: process.env.TSUNAGI_URL.replace(/\/$/, ''), token: process.env.TSUNAGI_TOKEN };
  let found: Partial<SignedIn> | null = null;
  try {
    found = JSON.parse(readFileSync(configFile(), 'utf8')) as Partial<SignedIn> | null;
  } catch {
    // There is none, or it was cut short.
  }
  if (typeof found?.url !== 'string' || typeof found.token !== 'string') throw new CodedError('not_signed_in');
  return { url: found.url, token: found.token };
}

export function rememberSignIn(one: SignedIn): string {
  const file = configFile();
  mkdirSync(dirname(file), { recursive: true, mode: 0o700 });
  writeFileSync(`${file}.new`, JSON.stringify(one), { mode: 0o600 });
  renameSync(`${file}.new`, file);
  return file;
}

/** One call. A change carries a key, and is repeated under it once when the connection broke. */
export async function call<T>(
  method: 'GET' | 'POST' | 'DELETE',
  path: string,
  body?: unknown,
  to: SignedIn = signedIn(),
): Promise<T> {
  const headers: Record<string, string> = { authorization: `Bearer ${to.token}` };
  if (method !== 'GET') headers['idempotency-key'] = randomUUID();
  const sends = method === 'POST' || (method === 'DELETE' && body !== undefined);
  if (sends) headers['content-type'] = 'application/json';
  const send = () => fetch(to.url + path, { method, headers, ...(sends ? { body: JSON.stringify(body ?? {}) } : {}) });
  const answer = await send()
    .catch(send)
    .catch((error) => {
      throw unreachable(to.url, error);
    });
  const text = await answer.text();
  if (!answer.ok) throw problemError(answer.status, text, to.url);
  return (text ? JSON.parse(text) : null) as T;
}

/** The bytes of an answer, as they come. */
export async function download(path: string): Promise<Readable> {
  const to = signedIn();
  const answer = await fetch(to.url + path, { headers: { authorization: `Bearer ${to.token}` } }).catch((error) => {
    throw unreachable(to.url, error);
  });
  if (!answer.ok || !answer.body) throw problemError(answer.status, await answer.text(), to.url);
  return Readable.fromWeb(answer.body as never);
}

/** Sends a file as the body of a change. */
export async function upload<T>(path: string, file: string, type: string): Promise<T> {
  const to = signedIn();
  const answer = await fetch(to.url + path, {
    method: 'POST',
    headers: { authorization: `Bearer ${to.token}`, 'content-type': type },
    body: Readable.toWeb(createReadStream(file)) as never,
    duplex: 'half',
  } as RequestInit).catch((error) => {
    throw unreachable(to.url, error);
  });
  const text = await answer.text();
  if (!answer.ok) throw problemError(answer.status, text, to.url);
  return JSON.parse(text) as T;
}

/** Days for which a token that was made at a sign-in is good. */
const tokenDays = 90;

/** Uses a one-time sign-in up, and makes a token for this machine with it; the session that it began is ended. */
export async function tokenByCode(url: string, code: string): Promise<string> {
  const send = async (method: string, path: string, body: unknown, headers: Record<string, string>) => {
    const answer = await fetch(url + path, {
      method,
      headers: { 'content-type': 'application/json', ...headers },
      body: JSON.stringify(body),
    }).catch((error) => {
      throw unreachable(url, error);
    });
    const text = await answer.text();
    if (!answer.ok) throw problemError(answer.status, text, url);
    return { text, cookie: answer.headers.get('set-cookie')?.split(';')[0] ?? '' };
  };
  const { text: me, cookie } = await send('POST', '/api/sign-in', { code }, {});
  const own = { cookie, origin: new URL(url).origin, 'idempotency-key': randomUUID() };
  const { role } = JSON.parse(me) as { role: string };
  const { text } = await send(
    'POST',
    '/api/tokens',
    { name: `command line on ${hostname()}`.slice(0, 80), role, days: tokenDays },
    own,
  );
  await send('POST', '/api/sign-out', {}, own);
  return (JSON.parse(text) as { token: string }).token;
}

export const get = <T>(path: string): Promise<T> => call<T>('GET', path);
export const post = <T>(path: string, body?: unknown): Promise<T> => call<T>('POST', path, body);

const unreachable = (url: string, error: unknown): CodedError => {
  const cause = (error as { cause?: { code?: string; message?: string } }).cause;
  return new CodedError(
    'unreachable',
    { url, detail: `${cause?.code ?? cause?.message ?? (error as Error).message}.` },
    error,
  );
};

function problemError(status: number, text: string, url: string): Error {
  try {
    const problem = JSON.parse(text) as Problem;
    return new CodedError(problem.code as ErrorCode, (problem.data ?? {}) as IssueData);
  } catch {
    return new CodedError('unreachable', { url, detail: `it answered ${status}.` });
  }
}

/** Server-sent events of a path (after the one with the id `after`), taken up again where they broke, until `take` returns true. */
export async function follow(
  path: string,
  take: (event: string, data: never) => boolean | Promise<boolean>,
  after: string | null = null,
): Promise<void> {
  const to = signedIn();
  let last = after;
  for (let failures = 0; ; ) {
    try {
      const answer: Response = await fetch(to.url + path, {
        headers: { authorization: `Bearer ${to.token}`, ...(last ? { 'last-event-id': last } : {}) },
      });
      if (!answer.ok || !answer.body) throw problemError(answer.status, await answer.text(), to.url);
      failures = 0;
      for await (const event of parseEvents(answer.body as unknown as AsyncIterable<Uint8Array>)) {
        if (event.id) last = event.id;
        if (await take(event.event, JSON.parse(event.data) as never)) return;
      }
    } catch (error) {
      if (error instanceof CodedError && !['unavailable', 'internal', 'busy'].includes(error.issue.code)) throw error;
      if (++failures > 20) throw unreachable(to.url, error);
      await new Promise((resolve) => setTimeout(resolve, Math.min(2_000, 100 * failures)));
    }
  }
}

export async function* parseEvents(
  body: AsyncIterable<Uint8Array>,
): AsyncGenerator<{ event: string; data: string; id: string | null }> {
  const decoder = new TextDecoder();
  let text = '';
  for await (const chunk of body) {
    text += decoder.decode(chunk, { stream: true });
    for (let end = text.indexOf('\n\n'); end >= 0; end = text.indexOf('\n\n')) {
      const fields = new Map(
        text
          .slice(0, end)
          .split('\n')
          .map((line): [string, string] => [
            line.slice(0, line.indexOf(':')),
            line.slice(line.indexOf(':') + 1).trimStart(),
          ]),
      );
      text = text.slice(end + 2);
      if (fields.has('data'))
        yield {
          event: fields.get('event') ?? 'message',
          data: fields.get('data') as string,
          id: fields.get('id') ?? null,
        };
    }
  }
}

/** The project of `--project`, or of the checkout one stands in: one of its remotes is the project's address. */
export async function projectName(given: string | undefined): Promise<string> {
  if (given) return given;
  let remotes = '';
  try {
    remotes = execFileSync('git', ['remote', '-v'], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] });
  } catch {
    throw new CodedError('no_project');
  }
  const urls = new Set([...remotes.matchAll(/\t(\S+) /g)].map((match) => bare(match[1] as string)));
  const { items } = await get<PageOf<Project>>('/api/projects');
  const found = items.find((one) => urls.has(bare(one.endpoint)) || (one.url !== null && urls.has(bare(one.url))));
  if (!found) throw new CodedError('no_project');
  return found.name;
}

const bare = (url: string): string => url.replace(/\/\/[^/@]*@/, '//').replace(/(\.git)?\/?$/, '');

/** `sailings/production`, or `production` with the project from elsewhere. */
export async function environmentPlace(
  text: string,
  project: string | undefined,
): Promise<{ project: string; name: string; path: string }> {
  const at = text.indexOf('/');
  const name = at < 0 ? text : text.slice(at + 1);
  const of = at < 0 ? await projectName(project) : text.slice(0, at);
  return {
    project: of,
    name,
    path: `/api/projects/${encodeURIComponent(of)}/environments/${encodeURIComponent(name)}`,
  };
}
