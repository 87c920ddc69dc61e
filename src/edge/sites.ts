/** Bytes of sites, unpacked once for each part's digest; links are left out, so that nothing of this machine can be served. */
import { rm } from 'node:fs/promises';
import { existsSync, mkdirSync, readdirSync, renameSync, rmSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import send from '@fastify/send';
import { timeOfDigest } from '../blobs/layer.js';
import { unpackLayer } from '../blobs/unpack.js';
import type { RoutePath } from '../core/cutover/route.js';

export type SitePath = Extract<RoutePath, { kind: 'site' }>;

export interface Sites {
  has(bytes: string): boolean;
  /** Makes a site's bytes present; several who want the same wait for one unpacking. */
  ready(bytes: string, layers: readonly string[], fetch: (digest: string) => Promise<Readable>): Promise<void>;
  keepOnly(bytes: readonly string[]): void;
  serve(site: SitePath, path: string, request: IncomingMessage, response: ServerResponse): Promise<void>;
}

/** How many sites that no table names are kept for a quick way back. */
const spare = 20;

export function openSites(folder: string): Sites {
  mkdirSync(folder, { recursive: true, mode: 0o700 });
  const busy = new Map<string, Promise<void>>();
  const place = (bytes: string) => join(folder, bytes.replace('sha256:', '').slice(0, 32));
  return {
    has: (bytes) => existsSync(place(bytes)),
    ready(bytes, layers, fetch) {
      if (existsSync(place(bytes))) return Promise.resolve();
      const running = busy.get(bytes);
      if (running) return running;
      const work = (async () => {
        const fresh = `${place(bytes)}.new`;
        await rm(fresh, { recursive: true, force: true });
        mkdirSync(fresh, { recursive: true });
        try {
          // The time of every file is that of the part's bytes: a reader's copy is good as long as they are the same.
          for (const digest of layers)
            await unpackLayer(await fetch(digest), { into: fresh, links: false, time: timeOfDigest(bytes) });
          renameSync(fresh, place(bytes));
        } finally {
          await rm(fresh, { recursive: true, force: true });
        }
      })().finally(() => busy.delete(bytes));
      busy.set(bytes, work);
      return work;
    },
    keepOnly(bytes) {
      const kept = new Set(bytes.map(place));
      const idle = readdirSync(folder)
        .map((name) => join(folder, name))
        .filter((path) => !kept.has(path) && !path.endsWith('.new'));
      for (const path of idle.slice(0, Math.max(0, idle.length - spare)))
        rmSync(path, { recursive: true, force: true });
    },
    async serve(site, path, request, response) {
      const root = join(place(site.bytes), site.root);
      const below = site.at === '/' ? path : path.slice(site.at.length) || '/';
      const options = {
        root,
        index: ['index.html'],
        dotfiles: 'ignore' as const,
        etag: true,
        lastModified: true,
        cacheControl: false,
      };
      let answer = await send(request, below, options);
      if (answer.type === 'error' && answer.statusCode === 404 && site.fallback)
        answer = await send(request, `/${site.fallback}`, options);
      response.writeHead(answer.statusCode, { ...answer.headers, 'cache-control': 'no-cache' });
      // A reader who goes away is nothing to tell.
      await pipeline(answer.stream, response).catch(() => response.destroy());
    },
  };
}
