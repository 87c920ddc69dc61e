/** A last look: what a deployment of a release would make and start in an environment, and what that comes to. Nothing is done. */
import { type MonthAhead, monthAhead } from '../../core/cost/month-ahead.js';
import { addressLabel } from '../../core/addresses.js';
import type { Prices } from '../../core/cost/cost.js';
import type { Definition, EnvironmentPlan, Part } from '../../core/definition/model.js';
import { type SetSizes, type Size, sizeOf } from '../../core/scale/sizes.js';
import type { PartKind } from '../../core/states.js';
import { pricesNow } from '../../records/cost/cost.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';
import { addressesOf } from '../../records/domains/addresses.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { resourcesOf } from '../../records/resources/resources.js';
import { type Context, type Db, domainOf } from '../context.js';
import { variablesFor } from '../environments/variables.js';
import { liveRelease } from '../deployments/live.js';
import { ruled } from './rules.js';
import { changedMigrations, type MigrationChange, migrationsOf } from '../deployments/migrations.js';

export interface Look {
  parts: { name: string; kind: PartKind; size: Size | null }[];
  /** `there`: kept as it is, with all that is in it. */
  resources: { name: string; kind: string; there: boolean }[];
  addresses: { host: string; there: boolean }[];
  /** Variables that it requires and nobody has set: it would be refused. */
  unset: string[];
  migrations: MigrationChange[];
  /** The command that runs before its programs start. */
  prepare: string | null;
  prices: { currency: string } | null;
  cost: MonthAhead | null;
}

export async function lookAhead(
  context: Context,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  release: ReleaseRow,
): Promise<Look> {
  const { plan } = await ruled(db, environment);
  const live = await liveRelease(db, environment);
  const [resources, addresses, { unset }, prices] = [
    new Set((await resourcesOf(db, environment.id)).map((row) => row.name)),
    new Set((await addressesOf(db, environment.id)).map((row) => row.host)),
    await variablesFor(context, db, { project, environment, release }),
    await pricesNow(db),
  ];
  const planned = release.parts.flatMap(({ name }) => release.plan.parts[name] ?? []);
  const parts = planned.map((part) => sizedPart(part, plan, environment));
  return {
    parts,
    resources: Object.values(release.plan.resources).map(({ name, kind }) => ({
      name,
      kind,
      there: resources.has(name),
    })),
    addresses: [environment.host, ...plan.addresses].map((host) => ({ host, there: addresses.has(host) })),
    unset,
    migrations: changedMigrations(
      live ? await migrationsOf(context, project, live) : [],
      await migrationsOf(context, project, release),
    ),
    prepare: release.plan.prepare?.run ?? null,
    prices: prices && { currency: prices.currency },
    cost: costOf(parts, prices),
  };
}

/** An environment as a definition declares it, before any of it is there. */
export interface Ahead {
  name: string;
  /** What comes there: `main`, `staging`, pull requests, or what people say. */
  takes: 'branch' | 'after' | 'pull requests' | 'by hand';
  of: string | null;
  automatic: boolean;
  parts: Look['parts'];
  resources: Look['resources'];
  addresses: string[];
  cost: MonthAhead | null;
}

/** What a definition would bring about in a project of this name: each environment with all that is made for it. */
export async function lookAtDefinition(
  context: Context,
  { release, environments }: Definition,
  project: string,
): Promise<{ environments: Ahead[]; prices: Look['prices'] }> {
  const prices = await pricesNow(context.records);
  const list = Object.values(environments).map((plan): Ahead => {
    const parts = Object.values(release?.parts ?? {}).map((part) =>
      sizedPart(part, plan, { sizes: {}, outside: false }),
    );
    const kind = plan.for ? 'review' : 'standing';
    const label = addressLabel(kind, project, plan.for ? 'pr-1' : plan.name, 1);
    return {
      name: plan.name,
      takes: plan.for ?? (plan.branch ? 'branch' : plan.after ? 'after' : 'by hand'),
      of: plan.branch ?? plan.after,
      automatic: plan.branch !== null || plan.for !== null || plan.promotion === 'automatic',
      parts,
      resources: Object.values(release?.resources ?? {}).map(({ name, kind }) => ({ name, kind, there: false })),
      addresses: [`${label}.${domainOf(context.addresses, kind)}`, ...plan.addresses],
      cost: costOf(parts, prices),
    };
  });
  return { environments: list, prices: prices && { currency: prices.currency } };
}

const sizedPart = (
  part: Part,
  plan: EnvironmentPlan,
  { sizes, outside }: { sizes: SetSizes; outside: boolean },
): Look['parts'][number] => ({
  name: part.name,
  kind: part.kind,
  size: part.kind === 'server' || part.kind === 'worker' ? sizeOf(part, plan, sizes, outside) : null,
});

const costOf = (parts: Look['parts'], prices: Prices | null): MonthAhead | null =>
  prices &&
  monthAhead(
    parts.flatMap((one) => (one.size ? [one.size] : [])),
    prices,
  );
