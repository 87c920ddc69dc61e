/** What an address leads to: the target of a deployment, as edges get it. */
import { routable } from '../../core/advance/fresh.js';
import { wishes } from './scene.js';
import type { RoutePath, Target } from '../../core/cutover/route.js';
import type { Part } from '../../core/definition/model.js';
import type { DeploymentRow } from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import type { InstanceRow } from '../../records/deployments/instances.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';
import type { Keys } from '../../keys/keys.js';

export interface Routed {
  deployment: DeploymentRow;
  release: ReleaseRow;
  environment: Pick<EnvironmentRow, 'sizes' | 'outside' | 'kind'>;
  instances: readonly InstanceRow[];
}

/** A deployment as it answers requests. A settings file has what is plain: a secret is in `deployment.secrets` alone. */
export function targetFor(
  { deployment, release, environment, instances }: Routed,
  keys: Pick<Keys, 'hash'>,
): Omit<Target, 'share' | 'until'> {
  const serving = routable(instances, wishes({ deployment, release, environment }));
  const site = (part: Part): RoutePath => {
    const image = release.parts.find((one) => one.name === part.name);
    const { at, root, fallback, missing, maintenance, headers, redirects, settings } = part;
    return {
      at,
      kind: 'site',
      part: part.name,
      bytes: image?.digest ?? '',
      layers: (image?.layers ?? []).map((layer) => layer.digest),
      root,
      fallback,
      missing,
      // Left out where there is none: what edges have does not change for it.
      ...(maintenance ? { maintenance } : {}),
      ...(part.immutable ? { immutable: part.immutable } : {}),
      headers,
      redirects,
      settings: settings && { at: settings.at, values: pick(deployment.variables, settings.names) },
    };
  };
  const server = ({ at, name, strip, sticky, http2 }: Part): RoutePath => ({
    at,
    kind: 'server',
    part: name,
    strip,
    sticky: sticky ? keys.hash(`sticky ${deployment.environment_id}`) : null,
    ...(http2 ? { http2 } : {}),
    // A cookie for a whole domain would reach other projects below it.
    ownCookies: true as const,
    instances: serving
      .filter((one) => one.part === name && one.address && one.port)
      .map((one) => ({ id: one.id, address: one.address as string, port: one.port as number })),
  });
  return {
    deployment: `d${deployment.number}`,
    release: `r${release.number}`,
    commit: release.commit,
    paths: Object.values(release.plan.parts)
      .filter((part) => part.kind === 'site' || part.kind === 'server')
      .map((part) => (part.kind === 'site' ? site(part) : server(part)))
      .sort((a, b) => b.at.length - a.at.length || (a.at < b.at ? -1 : 1)),
  };
}

const pick = (all: Record<string, string>, names: readonly string[]): Record<string, string> =>
  Object.fromEntries(names.flatMap((name) => (Object.hasOwn(all, name) ? [[name, all[name] as string]] : [])));
