/** One environment with all that its page shows. */
import { environmentView } from './board.js';
import type { EnvironmentPlan, Part } from '../../core/definition/model.js';
import { sizeOf } from '../../core/scale/sizes.js';
import { permitted, scrubOf } from '../../engine/resources/origins.js';
import { besideMain } from '../../engine/runs/forward.js';
import { noRoomFor } from '../../engine/deployments/placement.js';
import { refusesUndo, wayBack } from '../../core/advance/back.js';
import { listAgents } from '../../records/callers/agents.js';
import { listEdges, routeBody } from '../../records/callers/edges.js';
import type { Db } from '../../records/database.js';
import { deploymentsOf, asLived } from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import { instancesOfEnvironment } from '../../records/deployments/instances.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { releaseById } from '../../records/deployments/releases.js';
import type { Copies, EnvironmentDetail } from '../../wire/environments/environments.js';
import { addressesDelay, closedFor } from '../delays.js';
import type { Route } from '../../core/cutover/route.js';
import type { Service } from '../server.js';
import { addressViews } from './addresses.js';
import { commitViews, factsView, said } from './basics.js';
import { instanceView } from './deployments.js';
import { deploymentOf } from './releases.js';
import { jobViews } from './jobs.js';
import { resourceViews } from './resources.js';

/** What is wanted of a part that is a program. */
function sizeView(
  part: Part | undefined,
  plan: Pick<EnvironmentPlan, 'parts'> | undefined,
  { sizes, outside }: Pick<EnvironmentRow, 'sizes' | 'outside'>,
): EnvironmentDetail['parts'][number]['size'] {
  if (!part || part.kind === 'site' || part.kind === 'job') return null;
  return { ...sizeOf(part, plan ?? { parts: {} }, sizes, outside), set: Object.hasOwn(sizes, part.name) };
}

/** Where it stands; null for what nobody reaches. */
const addressed = (part: Part | undefined): string | null =>
  part && (part.kind === 'site' || part.kind === 'server') ? part.at : null;

export async function environmentDetail(
  service: Service,
  db: Db,
  project: ProjectRow,
  row: EnvironmentRow,
): Promise<EnvironmentDetail> {
  const [view, instances, past, agents] = await Promise.all([
    environmentView(service, db, row),
    instancesOfEnvironment(db, row.id),
    deploymentsOf(db, row.id, 50),
    listAgents(db),
  ]);
  const served = past.find((one) => one.id === (row.serving_id ?? row.live_id));
  const release = served ? await releaseById(db, served.release_id) : null;
  const numbers = new Map(past.map((one) => [one.id, one.number]));
  const names = new Map(agents.map((agent) => [agent.id, agent.name]));
  const live = past.find((one) => one.id === row.live_id) ?? null;
  const lived = past.filter((one) => one.live_at !== null).map(asLived);
  const [back] = wayBack(live && asLived(live), lived, row.opened_at.getTime(), 1);
  const commit = await commitViews(db, project.id, [...new Set(past.map((one) => one.commit))]);
  const noRoom = await noRoomFor(db, instances);
  const open = instances.filter((one) => one.state === 'waiting' || one.state === 'starting' || one.state === 'ready');
  const over = instances.filter((one) => !open.includes(one)).slice(0, 10);
  return {
    ...view,
    parts: release
      ? release.parts.map((part) => ({
          name: part.name,
          kind: release.plan.parts[part.name]?.kind ?? 'site',
          at: addressed(release.plan.parts[part.name]),
          digest: part.digest,
          size: sizeView(release.plan.parts[part.name], served?.environment_plan, row),
        }))
      : [],
    instanceList: [...open, ...over].map((one) =>
      instanceView(one, numbers.get(one.deployment_id) ?? 0, names.get(one.agent_id ?? '') ?? null, noRoom),
    ),
    resources: await resourceViews(db, { project, environment: row }),
    addresses: await addressViews(service, db, { project, environment: row }),
    jobs: await jobViews(db, row.id),
    copies: row.kind === 'review' ? null : await copiesView(db, row, view.project),
    plan: row.plan_name,
    history: past.map((one) => deploymentOf(project, row, one, one.release, commit(one.commit))),
    revertsTo: back ? { deployment: back.number, release: back.release } : null,
    undo: refusesUndo({ live, newest: past[0]?.number ?? null, reason: 'asked for later' }) === null,
    besideMain:
      row.kind === 'standing' && view.live
        ? (await besideMain(service.context, db, project, view.live.commit.id)).map(factsView)
        : [],
    delays:
      closedFor((await routeBody(db, row.host)) as Route | null, view.moving && `d${view.moving.number}`) ??
      addressesDelay(await listEdges(db), row),
  };
}

export async function copiesView(db: Db, row: EnvironmentRow, project: string): Promise<Copies> {
  const [scrub, allowed] = [await scrubOf(db, row), await permitted(db, row, `${project}/${row.name}`)];
  return { scrub, permitted: 'scrub' in allowed, why: 'why' in allowed ? said(allowed.why) : null };
}
