/**
 * A stand-in for the outside: a code host with bare repositories over smart HTTP, pull requests, and signed events.
 * The service reaches it only as it would a real one: by fetching and by the events it is sent.
 */
import { execFileSync, spawn } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import { join } from 'node:path';
import { checkEvent, signEvent } from '../../src/keys/webhooks.js';
import { pageHeaders, pullPage } from './page.js';
import type { Pull } from './pull.js';

interface ToldOfReview {
  pullRequest: number;
  revision: number;
  text: string;
}

interface Repository {
  statuses?: Record<string, { state: string; run: number; url: string }>;
  /** Where events go, and what they are signed with. */
  hook: { url: string; secret: string } | null;
  pulls: Pull[];
}

export interface CodeHost {
  url: string;
  port: number;
  addRepository(name: string): string;
  setHook(name: string, hook: { url: string; secret: string }): void;
  /** The service is at another address now. */
  moveHooks(origin: string): void;
  /** `branch` is one of the repository's, or the name of a ref that someone from outside has pushed below `refs/offered/`. */
  openPull(
    name: string,
    pull: { title: string; branch: string; base?: string; trusted?: boolean; number?: number },
  ): Promise<Pull>;
  closePull(name: string, number: number, how: 'merged' | 'abandoned'): Promise<void>;
  /** Its author may write there from now on, or no more. */
  trustPull(name: string, number: number, trusted: boolean): Promise<void>;
  /** Where it takes how runs of its commits stand. */
  statusUrl(name: string): string;
  /** Commit → what was told of it last. */
  statuses(name: string): Record<string, { state: string; run: number; url: string }>;
  /** The comment at a pull request that it was told last; null: none. */
  comment(name: string, number: number): { text: string; revision: number; edits: number } | null;
  /** Where somebody reads a pull request. */
  pullUrl(name: string, number: number): string;
  /** Refuses the next so many states, as a host that is busy would. */
  refuse(count: number): void;
  close(): Promise<void>;
}

export async function startCodeHost(folder: string, port: number): Promise<CodeHost> {
  mkdirSync(folder, { recursive: true });
  const file = join(folder, 'state.json');
  const state: Record<string, Repository> = existsSync(file)
    ? (JSON.parse(readFileSync(file, 'utf8')) as Record<string, Repository>)
    : {};
  const save = () => {
    writeFileSync(`${file}.new`, JSON.stringify(state, null, 1));
    renameSync(`${file}.new`, file);
  };
  const path = (name: string) => join(folder, `${name}.git`);
  const git = (name: string, ...args: string[]) =>
    execFileSync('git', [`--git-dir=${path(name)}`, ...args], { encoding: 'utf8' }).trim();
  const heads = (name: string) =>
    new Map(
      git(name, 'for-each-ref', '--format=%(refname:short) %(objectname)', 'refs/heads/')
        .split('\n')
        .filter(Boolean)
        .map((line): [string, string] => [line.slice(0, line.lastIndexOf(' ')), line.slice(line.lastIndexOf(' ') + 1)]),
    );

  const send = async (name: string, type: string, data: Record<string, unknown>): Promise<void> => {
    const hook = state[name]?.hook;
    if (!hook) return;
    const event = {
      specversion: '1.0',
      id: randomUUID(),
      source: `/codehost/${name}`,
      type,
      time: new Date().toISOString(),
      datacontenttype: 'application/json',
      data,
    };
    const body = JSON.stringify(event);
    for (let tries = 0; tries < 10; tries++) {
      try {
        const answer = await fetch(hook.url, {
          method: 'POST',
          headers: {
            'content-type': 'application/cloudevents+json',
            ...signEvent(hook.secret, event.id, body, Date.now()),
          },
          body,
        });
        if (answer.status < 500) return;
      } catch {
        // The service is away; the event is sent again.
      }
      await new Promise((resolve) => setTimeout(resolve, 200 * 2 ** tries));
    }
  };
  const sendPull = (name: string, what: 'created' | 'updated' | 'merged' | 'abandoned', pull: Pull) =>
    send(name, `dev.cdevents.change.${what}.0.3.0`, {
      context: {
        version: '0.4.1',
        id: randomUUID(),
        source: `/codehost/${name}`,
        type: `dev.cdevents.change.${what}.0.3.0`,
        timestamp: new Date().toISOString(),
      },
      subject: { id: String(pull.number), type: 'change', content: { repository: { id: name } } },
      customData: {
        number: pull.number,
        title: pull.title,
        head: pull.head,
        base: pull.base,
        trusted: pull.trusted,
        actor: 'mika',
      },
    });

  /** Tells of what a push has moved: branches, and the pull requests whose heads they are. */
  const pushed = async (name: string, before: Map<string, string>): Promise<void> => {
    const after = heads(name);
    for (const [branch, commit] of after) {
      if (before.get(branch) === commit) continue;
      await send(name, 'dev.tsunagi.branch.pushed', { branch, commit, actor: 'mika' });
      for (const pull of state[name]?.pulls ?? []) {
        if (!pull.open || pull.branch !== branch) continue;
        pull.head = commit;
        save();
        await sendPull(name, 'updated', pull);
      }
    }
    for (const branch of before.keys())
      if (!after.has(branch)) await send(name, 'dev.tsunagi.branch.pushed', { branch, actor: 'mika' });
  };

  /** One of a key: a newer one takes its place, an older one is left out. */
  const takeComment = (repository: Repository, { pullRequest, revision, text }: ToldOfReview): void => {
    const pull = repository.pulls.find((one) => one.number === pullRequest);
    if (!pull || (pull.comment && pull.comment.revision > revision)) return;
    const same = pull.comment?.text === text;
    pull.comment = { text, revision, edits: (pull.comment?.edits ?? -1) + (same ? 0 : 1) };
    save();
  };

  let refusing = 0;
  const takeStatus = (name: string, request: IncomingMessage, response: ServerResponse): void => {
    const parts: Buffer[] = [];
    request.on('data', (chunk: Buffer) => parts.push(chunk));
    request.on('end', () => {
      const body = Buffer.concat(parts).toString('utf8');
      const repository = state[name] as Repository;
      const signed =
        repository.hook && checkEvent(repository.hook.secret, request.headers, body, Date.now()) === 'good';
      if (refusing > 0 || !signed) {
        refusing = Math.max(0, refusing - 1);
        return void response.writeHead(signed ? 503 : 401).end();
      }
      const event = JSON.parse(body) as { type: string; data: ToldOfReview };
      if (event.type === 'dev.tsunagi.review.told') {
        takeComment(repository, event.data);
        return void response.writeHead(202).end();
      }
      const { data } = JSON.parse(body) as {
        data: { subject: { content: { url: string } }; customData: { commit: string; run: number; state: string } };
      };
      const { commit, run, state: now } = data.customData;
      repository.statuses = { ...repository.statuses, [commit]: { state: now, run, url: data.subject.content.url } };
      save();
      response.writeHead(202).end();
    });
  };

  const serve = (request: IncomingMessage, response: ServerResponse): void => {
    const url = new URL(request.url ?? '/', 'http://codehost');
    const told = /^\/statuses\/([a-z-]+)$/.exec(url.pathname)?.[1];
    if (told && state[told] && request.method === 'POST') return void takeStatus(told, request, response);
    const read = /^\/([a-z-]+)\/pulls\/(\d{1,9})$/.exec(url.pathname);
    const shown = read && state[read[1] as string]?.pulls.find((one) => one.number === Number(read[2]));
    if (read && shown && request.method === 'GET') {
      const page = pullPage(read[1] as string, shown, state[read[1] as string]?.statuses?.[shown.head]);
      return void response.writeHead(200, pageHeaders).end(page);
    }
    const found = /^\/([a-z-]+)\.git\/(info\/refs|git-(?:upload|receive)-pack)$/.exec(url.pathname);
    const name = found?.[1] ?? '';
    if (!found || !state[name]) return void response.writeHead(404).end('no such repository\n');
    const before = found[2] === 'git-receive-pack' ? heads(name) : null;
    const child = spawn('git', ['http-backend'], {
      env: {
        PATH: process.env.PATH,
        GIT_PROJECT_ROOT: folder,
        GIT_HTTP_EXPORT_ALL: '1',
        PATH_INFO: url.pathname,
        QUERY_STRING: url.search.slice(1),
        REQUEST_METHOD: request.method,
        CONTENT_TYPE: request.headers['content-type'] ?? '',
        ...(request.headers['content-encoding']
          ? { HTTP_CONTENT_ENCODING: String(request.headers['content-encoding']) }
          : {}),
        ...(request.headers['git-protocol'] ? { GIT_PROTOCOL: String(request.headers['git-protocol']) } : {}),
        REMOTE_USER: 'mika',
        GIT_CONFIG_COUNT: '2',
        GIT_CONFIG_KEY_0: 'http.receivepack',
        GIT_CONFIG_VALUE_0: 'true',
        GIT_CONFIG_KEY_1: 'safe.directory',
        GIT_CONFIG_VALUE_1: '*',
      },
      stdio: ['pipe', 'pipe', 'ignore'],
    });
    child.stdin.on('error', () => {});
    request.pipe(child.stdin);
    let head = Buffer.alloc(0);
    let begun = false;
    child.stdout.on('data', (chunk: Buffer) => {
      if (begun) return void response.write(chunk);
      head = Buffer.concat([head, chunk]);
      const end = head.indexOf('\r\n\r\n');
      if (end < 0) return;
      begun = true;
      const lines = head
        .toString('latin1', 0, end)
        .split('\r\n')
        .map((line): [string, string] => [
          line.slice(0, line.indexOf(':')).toLowerCase(),
          line.slice(line.indexOf(':') + 1).trim(),
        ]);
      const status = Number(lines.find(([key]) => key === 'status')?.[1]?.slice(0, 3) ?? 200);
      response.writeHead(status, Object.fromEntries(lines.filter(([key]) => key !== 'status')));
      response.write(head.subarray(end + 4));
    });
    child.on('close', () => {
      if (!begun) response.writeHead(500);
      // The push is over for its client when the service has been told of it.
      const told = before ? pushed(name, before) : Promise.resolve();
      told.finally(() => response.end());
    });
  };

  const server = createServer(serve);
  await new Promise<void>((resolve, reject) => server.once('error', reject).listen(port, '127.0.0.1', resolve));
  const { port: actual } = server.address() as { port: number };
  const url = `http://127.0.0.1:${actual}`;
  const pullOf = (name: string, number: number): Pull => {
    const pull = state[name]?.pulls.find((one) => one.number === number);
    if (!pull) throw new Error(`no pull request ${number}`);
    return pull;
  };
  return {
    url,
    port: actual,
    addRepository(name) {
      if (!existsSync(path(name))) execFileSync('git', ['init', '-q', '--bare', '--initial-branch=main', path(name)]);
      git(name, 'config', 'uploadpack.allowAnySHA1InWant', 'true');
      state[name] ??= { hook: null, pulls: [] };
      save();
      return `${url}/${name}.git`;
    },
    setHook(name, hook) {
      (state[name] as Repository).hook = hook;
      save();
    },
    moveHooks(origin) {
      for (const { hook } of Object.values(state)) if (hook) hook.url = origin + new URL(hook.url).pathname;
      save();
    },
    async openPull(name, { title, branch, base = 'main', trusted = true, number }) {
      const repository = state[name] as Repository;
      const head =
        heads(name).get(branch) ?? git(name, 'for-each-ref', '--format=%(objectname)', `refs/offered/${branch}`);
      if (!head) throw new Error(`no branch ${branch}`);
      const pull: Pull = {
        number: number ?? 214 + repository.pulls.length,
        title,
        branch,
        base,
        head,
        open: true,
        trusted,
      };
      repository.pulls.push(pull);
      save();
      await sendPull(name, 'created', pull);
      return pull;
    },
    async trustPull(name, number, trusted) {
      const pull = pullOf(name, number);
      pull.trusted = trusted;
      save();
      await sendPull(name, 'updated', pull);
    },
    async closePull(name, number, how) {
      const pull = pullOf(name, number);
      pull.open = false;
      save();
      await sendPull(name, how, pull);
    },
    statusUrl: (name) => `${url}/statuses/${name}`,
    statuses: (name) => state[name]?.statuses ?? {},
    comment: (name, number) => pullOf(name, number).comment ?? null,
    pullUrl: (name, number) => `${url}/${name}/pulls/${number}`,
    refuse(count) {
      refusing = count;
    },
    close: () =>
      new Promise((resolve) => {
        server.closeAllConnections();
        server.close(() => resolve());
      }),
  };
}
