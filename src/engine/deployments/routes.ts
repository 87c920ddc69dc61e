/** What an address leads to: the body of a route, as edges get it. */
import type { Route } from '../../core/cutover/route.js';
import type { InstanceRow } from '../../records/deployments/instances.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';

export function routeOf(
  environment: string,
  deployment: number,
  release: ReleaseRow,
  instances: readonly InstanceRow[],
): Route {
  const parts = Object.values(release.plan.parts).filter((part) => part.kind !== 'worker');
  return {
    environment,
    deployment: `d${deployment}`,
    release: `r${release.number}`,
    commit: release.commit,
    paths: parts
      .map((part): Route['paths'][number] => {
        if (part.kind === 'site') {
          const image = release.parts.find((one) => one.name === part.name);
          return {
            at: part.at,
            kind: 'site',
            part: part.name,
            bytes: image?.digest ?? '',
            layers: (image?.layers ?? []).map((layer) => layer.digest),
            root: part.root,
            fallback: part.fallback,
          };
        }
        const ready = instances.filter(
          (one) => one.part === part.name && one.wanted && one.state === 'ready' && one.address && one.port,
        );
        return {
          at: part.at,
          kind: 'server',
          part: part.name,
          instances: ready.map((one) => ({ id: one.id, address: one.address as string, port: one.port as number })),
        };
      })
      .sort((a, b) => b.at.length - a.at.length || (a.at < b.at ? -1 : 1)),
  };
}
