/** Routes for tests of the edge. */
import {
  allTraffic,
  type Route,
  type RoutePath,
  type ServerPath,
  type SitePath,
  type Target,
} from '../../src/core/cutover/route.js';

export interface Place {
  id: string;
  address: string;
  port: number;
}

export const serverPath = (at: string, instances: readonly Place[], more: Partial<ServerPath> = {}): ServerPath => ({
  at,
  kind: 'server',
  part: 'api',
  strip: false,
  sticky: null,
  instances: instances.map(({ id, address, port }) => ({ id, address, port })),
  ...more,
});

export const sitePath = (at: string, bytes: string, layers: string[], more: Partial<SitePath> = {}): SitePath => ({
  at,
  kind: 'site',
  part: 'page',
  bytes,
  layers,
  root: '',
  fallback: null,
  missing: null,
  headers: [],
  redirects: [],
  settings: null,
  ...more,
});

export const target = (paths: RoutePath[], more: Partial<Target> = {}): Target => ({
  deployment: 'd1',
  release: 'r1',
  commit: 'c',
  share: allTraffic,
  until: null,
  paths,
  ...more,
});

export const routeWith = (paths: RoutePath[], deployment = 'd1'): Route => ({
  environment: 'sailings/staging',
  targets: [target(paths, { deployment })],
});
