import type { Route } from '../core/cutover/route.js';
import type { EdgeRow } from '../records/callers/edges.js';
import type { EnvironmentRow } from '../records/deployments/environments.js';

/** Why old servers can't end yet, in words: an edge that is silent may still send them requests. Null when nothing delays. */
export function addressesDelay(
  edges: readonly EdgeRow[],
  environment: Pick<EnvironmentRow, 'table_version'>,
): string | null {
  const behind = edges.filter((edge) => edge.acknowledged < environment.table_version);
  const silent = behind.filter((edge) => !edge.alive).map((edge) => edge.name);
  if (silent.length)
    return `${silent.join(', ')} is silent: servers that it may still send requests to are kept until it answers.`;
  return behind.length
    ? `${behind.map((edge) => edge.name).join(', ')} has yet to take over the newest addresses.`
    : null;
}

/** That its programs are stopped for a deployment, or null. */
export const closedFor = (route: Route | null, moving: string | null): string | null =>
  route?.closed
    ? `Its programs are stopped${moving ? ` while ${moving} prepares` : ''}: visitors are shown that it is being worked on.`
    : null;
