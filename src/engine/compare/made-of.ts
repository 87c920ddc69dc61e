/** What a deployment is made of, put down when it is asked for. */
import { canonical } from '../../core/canonical.js';
import type { MadeOf } from '../../core/compare/compare.js';
import type { EnvironmentPlan } from '../../core/definition/model.js';
import { sizeOf } from '../../core/scale/sizes.js';
import type { SecretPlace } from '../../core/variables/resolve.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';
import { toolsOfRun } from '../../records/runs/runs.js';
import type { Context, Db } from '../context.js';

export interface Making {
  environment: EnvironmentRow;
  release: ReleaseRow;
  plan: EnvironmentPlan;
  definition: string | null;
  variables: Record<string, string>;
  secrets: Record<string, SecretPlace>;
}

export const resourcesOf = ({ plan }: Pick<ReleaseRow, 'plan'>): MadeOf['resources'] =>
  Object.fromEntries(
    Object.values(plan.resources).map(({ name, kind, size = null, extensions }) => [name, { kind, size, extensions }]),
  );

export async function madeOf(context: Pick<Context, 'keys'>, db: Db, making: Making): Promise<MadeOf> {
  const { environment, release, plan, definition, variables, secrets } = making;
  // Keyed, so that nobody guesses a value from it.
  const hash = (name: string, value: string) =>
    context.keys.hash(`compared ${environment.project_id} ${name} ${value}`).slice(0, 32);
  const { parts } = release.plan;
  return {
    definition,
    tools: await toolsOfRun(db, release.run_id),
    variables: Object.fromEntries([
      ...Object.entries(variables).map(([name, value]) => [name, { hash: hash(name, value), secret: false }]),
      ...Object.entries(secrets).map(([name, place]) => [name, { hash: hash(name, canonical(place)), secret: true }]),
    ]),
    resources: resourcesOf(release),
    migrations: Object.fromEntries((release.migrations ?? []).map(({ path, id }) => [path, id])),
    sizes: Object.fromEntries(
      Object.values(parts).flatMap((part) => {
        if (part.kind !== 'server' && part.kind !== 'worker') return [];
        const { instances, memory, cpu } = sizeOf(part, plan, environment.sizes, environment.outside);
        return [[part.name, { instances, memory, cpu }]];
      }),
    ),
  };
}
