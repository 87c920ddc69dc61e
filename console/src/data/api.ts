/** Calls of the console. Types are the service's own. */
import type { Problem } from '../../../src/wire/parts';

export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

async function call<T>(method: string, path: string, body?: unknown, key?: string): Promise<T> {
  const answer = await fetch(path, {
    method,
    headers: {
      ...(method === 'GET'
        ? {}
        : { 'content-type': 'application/json', 'idempotency-key': key ?? crypto.randomUUID() }),
    },
    ...(method === 'GET' ? {} : { body: JSON.stringify(body ?? {}) }),
  });
  const text = await answer.text();
  if (answer.ok) return (text ? JSON.parse(text) : null) as T;
  let problem: Problem;
  try {
    problem = JSON.parse(text) as Problem;
  } catch {
    problem = {
      type: '',
      title: '',
      status: answer.status,
      detail: `The service answered ${answer.status}.`,
      code: 'unreachable',
      next: 'Try again in a moment.',
      retry: true,
    };
  }
  throw new Refusal(problem);
}

export const get = <T>(path: string): Promise<T> => call<T>('GET', path);
export const post = <T>(path: string, body?: unknown): Promise<T> => call<T>('POST', path, body);

export const remove = <T>(path: string, body?: unknown): Promise<T> => call<T>('DELETE', path, body);

export const paths = {
  project: (project: string) => `/api/projects/${encodeURIComponent(project)}`,
  run: (project: string, number: number | string) => `/api/projects/${encodeURIComponent(project)}/runs/${number}`,
  environment: (project: string, name: string) =>
    `/api/projects/${encodeURIComponent(project)}/environments/${encodeURIComponent(name)}`,
};
