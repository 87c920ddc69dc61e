import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  allTraffic,
  below,
  headersAt,
  namesItsContent,
  pathOf,
  redirectOf,
  replacedMs,
  type Route,
  routeTo,
  sharing,
  sitesBeside,
  targetOf,
} from '../../src/core/cutover/route.js';
import { serverPath, sitePath, target } from '../house/routes.js';

describe('a target', () => {
  it('is the one whose share a visitor has drawn, the same for the same number', () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 0, max: 4_000 }), { minLength: 1, maxLength: 4 }), (shares) => {
        const route: Route = {
          environment: 'e',
          targets: shares.map((share, at) => target([], { deployment: `d${at}`, share })),
        };
        const total = shares.reduce((sum, share) => sum + share, 0);
        const counts = new Map<string, number>();
        for (let drawn = 0; drawn < allTraffic; drawn += 7) {
          const found = targetOf(route, drawn);
          if (total === 0) expect(found).toBeNull();
          else {
            expect(found?.share).toBeGreaterThan(0);
            if (drawn < total) counts.set(found?.deployment ?? '', (counts.get(found?.deployment ?? '') ?? 0) + 1);
          }
        }
        if (total <= allTraffic)
          for (const [at, share] of shares.entries())
            expect(Math.abs((counts.get(`d${at}`) ?? 0) - share / 7)).toBeLessThanOrEqual(1);
      }),
    );
  });

  it('has the part of the longest path that holds what is asked', () => {
    const one = target([serverPath('/api/deep', []), serverPath('/api', []), sitePath('/', '', [])]);
    const at = (path: string) => pathOf(one, path)?.at ?? null;
    expect(['/api', '/api/x', '/apis', '/', '/api/deep/x', '/api/deeper'].map(at)).toEqual([
      '/api',
      '/api',
      '/',
      '/',
      '/api/deep',
      '/api',
    ]);
    expect(pathOf(target([serverPath('/api', [])]), '/')).toBeNull();
    expect([below('/api', '/api'), below('/api', '/api/x'), below('/', '/x')]).toEqual(['/', '/x', '/x']);
  });
});

describe('a route', () => {
  const step = fc.record({
    deployment: fc.integer({ min: 1, max: 5 }),
    bytes: fc.integer({ min: 1, max: 4 }),
    ms: fc.integer({ min: 0, max: replacedMs }),
  });
  it('gives all traffic to one, and keeps the files of those before, for a while and a few of them', () => {
    fc.assert(
      fc.property(fc.array(step, { minLength: 1, maxLength: 12 }), (steps) => {
        let route: Route | null = null;
        let now = 1_000;
        for (const { deployment, bytes, ms } of steps) {
          now += ms;
          const paths = [serverPath('/api', [{ id: '1', address: 'a', port: 1 }]), sitePath('/', `b${bytes}`, [])];
          const to = { deployment: `d${deployment}`, release: 'r', commit: 'c', paths };
          const before: Route | null = route;
          route = routeTo(before, 'e', to, now);
          const [first, ...others] = route.targets;
          expect(first).toEqual({ ...to, share: allTraffic, until: null });
          expect(sharing(route)).toEqual([to]);
          expect(others.length).toBeLessThanOrEqual(3);
          for (const one of others) {
            expect([one.share, (one.until as number) > now, (one.until as number) <= now + replacedMs]).toEqual([
              0,
              true,
              true,
            ]);
            // Servers that are in no table can end.
            expect(one.paths.every((path) => path.kind === 'site')).toBe(true);
          }
          const all = route.targets
            .flatMap((one) => one.paths)
            .flatMap((path) => (path.kind === 'site' ? [path.bytes] : []));
          expect(new Set(all).size).toBe(all.length);
          // Told twice, it is the same.
          expect(routeTo(route, 'e', to, now)).toEqual(route);
        }
      }),
    );
  });

  it('has sites of others beside one only where they stand at the same place, with other bytes', () => {
    const site = sitePath('/', 'new', []);
    const now = target([site, sitePath('/docs', 'docs', [])]);
    const old = target([sitePath('/', 'old', []), sitePath('/docs', 'older', [])], { deployment: 'd0', share: 0 });
    expect(sitesBeside({ environment: 'e', targets: [now, old] }, now, site).map((one) => one.bytes)).toEqual(['old']);
  });
});

describe('what a site says of a path', () => {
  it('leads elsewhere, and never to another host by what follows', () => {
    const site = sitePath('/', '', [], {
      redirects: [
        { from: '/old', to: '/new', permanent: true },
        { from: '/trips/', to: '/sailings', permanent: false },
        { from: '/away/', to: 'https://kohama.example/x/', permanent: false },
        { from: '/all/', to: '/', permanent: false },
      ],
    });
    const to = (path: string) => redirectOf(site, path)?.to ?? null;
    expect(['/old', '/older', '/trips/a/b', '/away/y', '/all//evil.example', '/x'].map(to)).toEqual([
      '/new',
      null,
      '/sailings/a/b',
      'https://kohama.example/x/y',
      '/evil.example',
      null,
    ]);
  });

  it('adds headers, those of the nearest path last', () => {
    const site = sitePath('/', '', [], {
      headers: [
        { at: '/assets/', set: { 'Cache-Control': 'max-age=60' } },
        { at: '/', set: { 'Cache-Control': 'no-store', 'X-All': '1' } },
        { at: '/assets/a.js', set: { 'X-One': '1' } },
      ],
    });
    expect(headersAt(site, '/assets/a.js')).toEqual({ 'Cache-Control': 'max-age=60', 'X-All': '1', 'X-One': '1' });
    expect(headersAt(site, '/b')).toEqual({ 'Cache-Control': 'no-store', 'X-All': '1' });
  });

  it.each([
    ['/assets/index-BqYc8k3T.js', false],
    ['/assets/app.0f3a9c21.css', true],
    ['/app.0f3a9c21.js.map', true],
    ['/index.html', false],
    ['/report-20261126.json', false],
    ['/background2x.png', false],
    ['/images/background-wide2x.png', false],
    ['/deadbeef.js', false],
    ['/a-deadbeef.js', false],
    ['/report-2026112611.json', false],
    ['/assets/entry-0f3a9c2.js', false],
    ['/BqYc8k3T.js', false],
  ])('knows whether the name of %s changes with its content: %s', (path, said) => {
    expect(namesItsContent(path)).toBe(said);
  });

  it('believes the definition that says which folders never change', () => {
    const rules = { immutable: ['assets/'] };
    expect(namesItsContent('/assets/index-BqYc8k3T.js', rules)).toBe(true);
    expect(namesItsContent('/index-BqYc8k3T.js', rules)).toBe(false);
  });
});
