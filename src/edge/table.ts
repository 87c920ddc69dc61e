/** The edge's table: host → route, from the service, with the last one kept on disk. */
import { readFileSync, renameSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Route } from '../core/cutover/route.js';
import { CodedError } from '../core/errors.js';
import { makeClient } from '../wire/client.js';
import type { TableAnswer } from '../wire/work.js';
import type { Sites } from './sites.js';

export interface Table {
  route(host: string): Route | null;
  close(): Promise<void>;
}

interface Kept {
  version: number;
  routes: Record<string, Route>;
}

export interface TableOptions {
  url: string;
  token: string;
  name: string;
  folder: string;
  sites: Sites;
  log: { info(data: object, text: string): void; warn(data: object, text: string): void };
}

/** Milliseconds for which the service may keep a question open. */
const waitMs = 5_000;

export function openTable(options: TableOptions): Table {
  const file = join(options.folder, 'table.json');
  const client = makeClient(options.url, options.token);
  const kept = load(file);
  const routes = new Map(Object.entries(kept.routes));
  let { version } = kept;
  let stopped = false;
  let asking: AbortController | null = null;

  /** A table counts as taken over when the bytes of its sites are here. */
  const take = async (answer: TableAnswer): Promise<void> => {
    for (const row of answer.routes) {
      const route = row.body as Route | null;
      if (route)
        for (const path of route.paths)
          if (path.kind === 'site') await options.sites.ready(path.bytes, path.layers, (digest) => client.getStream(`/api/edge/blobs/${digest}`));
      if (route) routes.set(row.host, route);
      else routes.delete(row.host);
      version = Math.max(version, row.version);
    }
    if (answer.routes.length === 0) return;
    writeFileSync(`${file}.new`, JSON.stringify({ version, routes: Object.fromEntries(routes) } satisfies Kept));
    renameSync(`${file}.new`, file);
    options.sites.keepOnly([...routes.values()].flatMap((route) => route.paths.flatMap((path) => (path.kind === 'site' ? [path.bytes] : []))));
  };
  const loop = async (): Promise<void> => {
    let failures = 0;
    // Never a question that waits at first: the service learns at once what this edge has.
    let wait = 0;
    while (!stopped) {
      try {
        asking = new AbortController();
        const answer = await client.post<TableAnswer>('/api/edge/table', { name: options.name, have: version, waitMs: wait }, { signal: asking.signal });
        await take(answer);
        wait = answer.routes.length ? 0 : waitMs;
        failures = 0;
      } catch (error) {
        if (stopped) return;
        failures++;
        if (failures === 1)
          options.log.warn({ error: error instanceof CodedError ? error.issue : String(error) }, 'the service does not answer; the last table stays');
        await new Promise((resolve) => setTimeout(resolve, Math.min(2_000, 50 * 2 ** Math.min(failures, 6))));
        wait = 0;
      }
    }
  };
  const running = loop();
  return {
    route: (host) => routes.get(host) ?? null,
    async close() {
      stopped = true;
      asking?.abort();
      await running;
      await client.close();
    },
  };
}

function load(file: string): Kept {
  try {
    return JSON.parse(readFileSync(file, 'utf8')) as Kept;
  } catch {
    return { version: 0, routes: {} };
  }
}
