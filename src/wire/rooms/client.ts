/** The agent's and edge's way to the service. */
import { backoff } from '../../core/backoff.js';
import { Agent, request } from 'undici';
import type { Readable } from 'node:stream';
import { CodedError, type ErrorCode, type IssueData } from '../../core/errors/errors.js';

export interface Client {
  post<T>(path: string, body: unknown, options?: { signal?: AbortSignal; timeoutMs?: number }): Promise<T>;
  postBytes<T>(path: string, bytes: Buffer): Promise<T>;
  /** `size`: null where it is not known before. */
  putStream(path: string, stream: Readable, size: number | null): Promise<void>;
  get<T>(path: string): Promise<T>;
  getStream(path: string): Promise<Readable>;
  /** Sends a question too long for an address, and gives the bytes of the answer. */
  postForStream(path: string, body: unknown): Promise<Readable>;
  close(): Promise<void>;
}

export function makeClient(url: string, token: string): Client {
  const dispatcher = new Agent({
    connections: 32,
    pipelining: 1,
    keepAliveTimeout: 20_000,
    headersTimeout: 60_000,
    bodyTimeout: 120_000,
  });
  const headers = { authorization: `Bearer ${token}` };
  const call = async (
    method: 'GET' | 'POST' | 'PUT',
    path: string,
    options: {
      body?: Buffer | Readable | string;
      type?: string;
      size?: number;
      signal?: AbortSignal;
      timeoutMs?: number;
    },
  ) => {
    const answer = await request(url + path, {
      method,
      dispatcher,
      headers: {
        ...headers,
        ...(options.type ? { 'content-type': options.type } : {}),
        ...(options.size !== undefined ? { 'content-length': String(options.size) } : {}),
      },
      body: options.body ?? null,
      ...(options.signal ? { signal: options.signal } : {}),
      headersTimeout: options.timeoutMs ?? 60_000,
    });
    if (answer.statusCode < 400) return answer;
    const text = await answer.body.text();
    throw problem(answer.statusCode, text);
  };
  return {
    async post<T>(path: string, body: unknown, options = {}) {
      const answer = await call('POST', path, { body: JSON.stringify(body), type: 'application/json', ...options });
      const text = await answer.body.text();
      return (text ? JSON.parse(text) : undefined) as T;
    },
    async postBytes<T>(path: string, bytes: Buffer) {
      return (await (await call('POST', path, { body: bytes, type: 'application/octet-stream' })).body.json()) as T;
    },
    async putStream(path, stream, size) {
      await (
        await call('PUT', path, {
          body: stream,
          ...(size === null ? {} : { size }),
          type: 'application/octet-stream',
          timeoutMs: 600_000,
        })
      ).body.dump();
    },
    async get<T>(path: string) {
      return (await (await call('GET', path, {})).body.json()) as T;
    },
    async postForStream(path, body) {
      const options = { body: JSON.stringify(body), type: 'application/json' };
      return (await call('POST', path, options)).body as unknown as Readable;
    },
    async getStream(path) {
      return (await call('GET', path, {})).body as unknown as Readable;
    },
    close: () => dispatcher.destroy(),
  };
}

function problem(status: number, text: string): Error {
  try {
    const { code, data } = JSON.parse(text) as { code: ErrorCode; data?: IssueData };
    return new CodedError(code, data ?? {});
  } catch {
    return new Error(`the service answered ${status}: ${text.slice(0, 200)}`);
  }
}

/** Whether trying again later can help: the service is away, or says so. */
export function mayRetry(error: unknown): boolean {
  if (!(error instanceof CodedError)) return true;
  return (
    error.issue.code === 'unavailable' || error.issue.code === 'internal' || error.issue.code === 'too_many_requests'
  );
}

/** Repeats until it succeeds, it can't any more, or `stopped` says so; waits 50 ms at first and 1 s at most. */
export async function untilDone<T>(work: () => Promise<T>, stopped: () => boolean): Promise<T> {
  for (let tries = 0; ; tries++) {
    try {
      return await work();
    } catch (error) {
      if (!mayRetry(error) || stopped()) throw error;
      await new Promise((resolve) => setTimeout(resolve, backoff('call', tries + 1)));
    }
  }
}
