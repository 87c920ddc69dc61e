/** The table of an edge: host → what stands at which path. */
export type RoutePath =
  | { at: string; kind: 'site'; part: string; bytes: string; layers: string[]; root: string; fallback: string | null }
  | { at: string; kind: 'server'; part: string; instances: { id: string; address: string; port: number }[] };

export interface Route {
  /** `sailings/staging`. */
  environment: string;
  deployment: string;
  release: string;
  commit: string;
  /** The longest `at` first. */
  paths: RoutePath[];
}

/** What answers at a path: the longest `at` that is the path or a folder of it. */
export function routePath(route: Route, path: string): RoutePath | null {
  return route.paths.find(({ at }) => at === '/' || path === at || path.startsWith(`${at}/`)) ?? null;
}
