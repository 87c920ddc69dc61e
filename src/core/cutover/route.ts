/**
 * The table of an edge: host → what is live there. Each target is one deployment with the share of the traffic that it gets: a
 * visitor is on one side for all paths of a host. A target without a share answers nothing but files that the others lack.
 */

import type { GuardedAccess } from '../states.js';
import type { Except } from './use.js';

/** All of the traffic; a share is a whole number of it. */
export const allTraffic = 10_000;

/** Headers for what stands at a path of a site: `at` that ends with a slash is all below it. */
export interface SiteHeaders {
  at: string;
  set: Record<string, string>;
}

export interface SiteRedirect {
  /** One that ends with a slash leads all below it along. */
  from: string;
  to: string;
  permanent: boolean;
}

/** How a site answers, besides its files. */
export interface SiteRules {
  /** Answers navigations to what is none of its files. */
  fallback: string | null;
  /** The page of a 404. */
  missing: string | null;
  /** The page of a 503 while the environment is closed. Left out by a service of before. */
  maintenance?: string | null;
  headers: SiteHeaders[];
  redirects: SiteRedirect[];
  /** Folders whose files never change under their name, below its root. Left out: none. */
  immutable?: string[];
}

export interface SitePath extends SiteRules {
  at: string;
  kind: 'site';
  part: string;
  /** Digest of the part: the same bytes, the same digest. */
  bytes: string;
  layers: string[];
  root: string;
  /** Answered from the environment's variables. */
  settings: { at: string; values: Record<string, string> } | null;
}

export interface ServerPath {
  at: string;
  kind: 'server';
  part: string;
  /** Whether `at` is taken off before the program sees the path. */
  strip: boolean;
  /** Key under which a visitor's instance is signed; null: each request goes where there is room. */
  sticky: string | null;
  /** It is asked in HTTP/2, without TLS. Left out by a service of before. */
  http2?: true;
  /** Its cookies are its own host's: others below the same domain are others' reviews. */
  ownCookies?: true;
  instances: { id: string; address: string; port: number }[];
}

export type RoutePath = SitePath | ServerPath;

export interface Target {
  deployment: string;
  release: string;
  commit: string;
  /** Of `allTraffic`. */
  share: number;
  /** Milliseconds since the epoch after which one without a share is left out. */
  until: number | null;
  /** The longest `at` first. */
  paths: RoutePath[];
}

export interface Route {
  /** `sailings/staging`. */
  environment: string;
  targets: Target[];
  /** Its programs are stopped for a while: nobody is led to them. */
  closed?: true;
  /** They sleep: whoever comes to one wakes them. */
  asleep?: true;
  /** What counts as use, where somebody asks; left out: nobody does. */
  uses?: { requests: boolean; connections: boolean; except: Except };
  /** Key under which a visitor's number is signed: they stay on one side. Left out: each request is drawn anew. */
  visitors?: string;
  /** What is counted apart while the traffic moves, and while it may still go back. */
  judged?: Judged;
  mirror?: Mirror;
  /** What all of the traffic is led to next, at the same moment as that of other hosts: an edge has its files before it takes this over. */
  next?: Omit<Target, 'share' | 'until'>;
  /** Key under which it is signed who sees one side first; left out: nobody does. */
  forced?: string;
  /** Who may look; left out: everybody. `console`: where people are signed in. */
  gate?: { access: GuardedAccess; console: string };
}

/** Copies of safe requests go there, too; nobody sees what comes back. */
export interface Mirror {
  /** Counted anew with each: `d17 1`. */
  stage: string;
  target: Omit<Target, 'share' | 'until'>;
  /** Below these also what has cookies or an authorization. */
  paths: string[];
  /** Below these the bodies of the answers must be equal. */
  same: string[];
}

export interface Judged {
  /** Counted anew with each: `d17 2`. */
  stage: string;
  now: string;
  /** Null: nothing has traffic beside it any more. */
  old: string | null;
  /** Milliseconds within which answers are to begin; null: no bound. */
  boundMs: number | null;
  /** Milliseconds since the epoch after which nothing is counted; null: as long as the table says so. */
  until: number | null;
}

/** A host that leads where another one leads. */
export interface Alias {
  alias: string;
}

/** The target of a visitor who has drawn a number from 0 to `allTraffic` - 1; null when nothing has a share. */
export function targetOf(route: Route, drawn: number): Target | null {
  let below = 0;
  let last: Target | null = null;
  for (const target of route.targets) {
    if (target.share <= 0) continue;
    last = target;
    below += target.share;
    if (drawn < below) return target;
  }
  return last;
}

/** The targets that get traffic, as they were told: who they are and what stands where. */
export const sharing = (route: Route | null): Omit<Target, 'share' | 'until'>[] =>
  (route?.targets ?? []).flatMap(({ share, until: _until, ...target }) => (share > 0 ? [target] : []));

/** What answers at a path: the longest `at` that is the path or a folder of it. */
export const pathOf = (target: Target, path: string): RoutePath | null =>
  target.paths.find(({ at }) => within(at, path)) ?? null;

export const within = (at: string, path: string): boolean => at === '/' || path === at || path.startsWith(`${at}/`);

/** A path as it is below the place where a part stands. */
export const below = (at: string, path: string): string => (at === '/' ? path : path.slice(at.length) || '/');

/** Sites of the other targets at this place: what a page that is open still asks for may be theirs. */
export const sitesBeside = (route: Route, target: Target, site: SitePath): SitePath[] =>
  route.targets
    .filter((other) => other !== target)
    .flatMap((other) => other.paths)
    .filter((path): path is SitePath => path.kind === 'site' && path.at === site.at && path.bytes !== site.bytes);

/** Milliseconds for which files of a replaced site are still answered, and replaced sites at a time. */
export const replacedMs = 7 * 24 * 3_600_000;
const replacedAtMost = 3;

/**
 * The route when all traffic goes to a target: what had a share before stays with its sites, the newest first; servers are in it no
 * more, so that they can end.
 */
export function routeTo(
  before: Route | null,
  environment: string,
  to: Omit<Target, 'share' | 'until'>,
  now: number,
  { uses, gate, judged }: Pick<Route, 'uses' | 'gate' | 'judged'> = {},
): Route {
  const bytes = (paths: readonly RoutePath[]) => paths.flatMap((path) => (path.kind === 'site' ? [path.bytes] : []));
  const seen = new Set(bytes(to.paths));
  const replaced: Target[] = [];
  const earlier = (before?.targets ?? []).filter((one) => one.deployment !== to.deployment);
  for (const one of [...earlier].sort((a, b) => b.share - a.share)) {
    const paths = one.paths.filter((path) => path.kind === 'site' && !seen.has(path.bytes));
    const until = one.share > 0 ? now + replacedMs : (one.until ?? 0);
    if (paths.length === 0 || until <= now || replaced.length === replacedAtMost) continue;
    for (const path of bytes(paths)) seen.add(path);
    replaced.push({ ...one, share: 0, until, paths });
  }
  return {
    environment,
    targets: [{ ...to, share: allTraffic, until: null }, ...replaced],
    ...(uses ? { uses } : {}),
    ...(gate ? { gate } : {}),
    ...(judged ? { judged } : {}),
  };
}

/**
 * The route while a new release has a share: visitors below it are on the new side, and stay there when it grows. What was replaced
 * before stays with its sites.
 */
export function routeShared(
  before: Route | null,
  {
    environment,
    now,
    old,
    share,
    visitors,
    judged,
    forced,
  }: {
    environment: string;
    now: Omit<Target, 'share' | 'until'>;
    old: Omit<Target, 'share' | 'until'>;
    share: number;
    /** Where one of them has a site, so that its files are found. */
    visitors: string;
    judged: Judged;
    forced: string;
  },
): Route {
  const replaced = (before?.targets ?? []).filter(
    (one) => one.share === 0 && one.deployment !== now.deployment && one.deployment !== old.deployment,
  );
  const sites = [...now.paths, ...old.paths].some((path) => path.kind === 'site');
  return {
    environment,
    targets: [{ ...now, share, until: null }, { ...old, share: allTraffic - share, until: null }, ...replaced],
    ...(sites ? { visitors } : {}),
    judged,
    forced,
  };
}

/** The route while copies go to a new release: all of the traffic stays where it was. */
export function routeMirrored(
  before: Route | null,
  {
    environment,
    old,
    mirror,
    forced,
  }: { environment: string; old: Omit<Target, 'share' | 'until'>; mirror: Mirror; forced: string },
): Route {
  const replaced = (before?.targets ?? []).filter(
    (one) => one.share === 0 && one.deployment !== old.deployment && one.deployment !== mirror.target.deployment,
  );
  return { environment, targets: [{ ...old, share: allTraffic, until: null }, ...replaced], mirror, forced };
}

/** The route while something is about to come, together with others: nothing else of it changes. */
export const routeNext = (before: Route | null, environment: string, next: NonNullable<Route['next']>): Route => ({
  ...(before ?? { environment, targets: [] }),
  next,
});

/** It does not come; null: nothing was there. */
export function routeWithoutNext({ next: _next, ...route }: Route): Route | null {
  return route.targets.length ? route : null;
}

/** The site whose page is shown to whoever comes to a path meanwhile: the one that stands there, else another of the same target. */
export function maintenanceOf(target: Target, path: string): SitePath | null {
  const sites = target.paths.filter((one): one is SitePath => one.kind === 'site' && Boolean(one.maintenance));
  return sites.find(({ at }) => within(at, path)) ?? sites[0] ?? null;
}

/** Where a path of a site leads instead, with what follows it; null when it leads nowhere else. */
export function redirectOf(site: SiteRules, path: string): { to: string; permanent: boolean } | null {
  for (const { from, to, permanent } of site.redirects) {
    if (path === from) return { to, permanent };
    if (!from.endsWith('/') || !path.startsWith(from)) continue;
    // Slashes in front of what follows would make a host of it.
    const rest = path.slice(from.length).replace(/^\/+/, '');
    return { to: (to.endsWith('/') ? to : `${to}/`) + rest, permanent };
  }
  return null;
}

/** Headers that the definition asks for at a path; the longest `at` counts most. */
export function headersAt(site: SiteRules, path: string): Record<string, string> {
  const matching = site.headers.filter(({ at }) => path === at || (at.endsWith('/') && path.startsWith(at)));
  return Object.assign({}, ...matching.sort((a, b) => a.at.length - b.at.length).map((one) => one.set));
}

/**
 * Whether readers may keep a file for good: its name changes with its content. The definition says so of a folder (`immutable`), or the name
 * has a hash as builders write them: 8 to 64 hexadecimal digits, letters and figures both, before the ending. Any other name can be a
 * person's (`Preisliste-Sommer2025.pdf`), and a copy that stays too long helps no visitor.
 */
export function namesItsContent(path: string, { immutable = [] }: Pick<SiteRules, 'immutable'> = {}): boolean {
  if (immutable.some((folder) => path.startsWith(`/${folder}`))) return true;
  const hash = /[^/]+[.-]([0-9a-f]{8,64})\.[a-z0-9]{1,8}(\.map)?$/.exec(path)?.[1];
  return hash !== undefined && /\d/.test(hash) && /[a-f]/.test(hash);
}
