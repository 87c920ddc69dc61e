/** Bytes of sites, unpacked once for each part's digest; links are left out, so that nothing of this machine can be served. */
import { existsSync, mkdirSync, readdirSync, renameSync, rmSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import send from '@fastify/send';
import { timeOfDigest, unpackLayer } from '../blobs/unpack.js';
import type { RoutePath } from '../core/cutover/route.js';

export type SitePath = Extract<RoutePath, { kind: 'site' }>;

export interface Sites {
  /** Makes a site's bytes present. */
  ready(bytes: string, layers: readonly string[], fetch: (digest: string) => Promise<Readable>): Promise<void>;
  keepOnly(bytes: readonly string[]): void;
  serve(site: SitePath, path: string, request: IncomingMessage, response: ServerResponse): Promise<void>;
}

/** How many sites that no table names are kept for a quick way back. */
const spare = 20;

export function openSites(folder: string): Sites {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const place = (bytes: string) => join(folder, bytes.replace('sha256:', '').slice(0, 32));
  return {
    async ready(bytes, layers, fetch) {
      if (existsSync(place(bytes))) return;
      const fresh = `${place(bytes)}.new`;
      rmSync(fresh, { recursive: true, force: true });
      mkdirSync(fresh, { recursive: true });
      // The time of every file is that of the part's bytes: a reader's copy is good as long as they are the same.
      for (const digest of layers) await unpackLayer(await fetch(digest), { into: fresh, links: false, time: timeOfDigest(bytes) });
      renameSync(fresh, place(bytes));
    },
    keepOnly(bytes) {
      const kept = new Set(bytes.map(place));
      const idle = readdirSync(folder)
        .map((name) => join(folder, name))
        .filter((path) => !kept.has(path) && !path.endsWith('.new'));
      for (const path of idle.slice(0, Math.max(0, idle.length - spare))) rmSync(path, { recursive: true, force: true });
    },
    async serve(site, path, request, response) {
      const root = join(place(site.bytes), site.root);
      const below = site.at === '/' ? path : path.slice(site.at.length) || '/';
      const options = { root, index: ['index.html'], dotfiles: 'ignore' as const, etag: true, lastModified: true, cacheControl: false };
      let answer = await send(request, below, options);
      if (answer.type === 'error' && answer.statusCode === 404 && site.fallback) answer = await send(request, `/${site.fallback}`, options);
      response.writeHead(answer.statusCode, { ...answer.headers, 'cache-control': 'no-cache' });
      answer.stream.pipe(response);
    },
  };
}
