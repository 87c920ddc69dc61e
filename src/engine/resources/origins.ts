/** What the data of a review begins as: a snapshot of another environment's, or nothing, and why. */
import { chooseSnapshot, type Chosen, type Known, scrubStands } from '../../core/advance/snapshots.js';
import { canonical } from '../../core/canonical.js';
import { defaultFreshMs, type ScrubPlan } from '../../core/definition/model.js';
import { CodedError, issue, type Issue } from '../../core/errors/errors.js';
import { snapshotComing } from '../../core/states.js';
import {
  copiesOf,
  environmentById,
  type EnvironmentRow,
  findEnvironment,
  setCopies,
} from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { mainDefinition, projectById, type ProjectRow } from '../../records/projects/projects.js';
import { awaitSnapshot, lockResource, type ResourceRow } from '../../records/resources/resources.js';
import {
  addSnapshot,
  keepFresh,
  lookAtSnapshots,
  type SnapshotRow,
  snapshotById,
  snapshotsOf,
} from '../../records/resources/snapshots.js';
import type { Context, Db } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';
import { type Place, resourceUnknown } from './acts.js';

/** What the data of a resource begins as. */
export type Beginning =
  | 'waits'
  /** `why`: there is none that is as fresh as was asked for. */
  | { of: SnapshotRow; why: Issue | null }
  | { empty: Issue };

/** The scrub of an environment, where main declares one. */
export async function scrubOf(db: Db, environment: EnvironmentRow): Promise<ScrubPlan | null> {
  const main = await mainDefinition(db, environment.project_id);
  return main?.model.environments[environment.plan_name]?.scrub ?? null;
}

/** What makes copies of its data fit for others, where an owner has permitted them with just that; or why there are none. */
export async function permitted(
  db: Db,
  environment: EnvironmentRow,
  place: string,
): Promise<{ scrub: ScrubPlan } | { why: Issue }> {
  const [scrub, copies] = [await scrubOf(db, environment), await copiesOf(db, environment.id)];
  const no = (code: 'copy_unscrubbed' | 'copy_unpermitted' | 'copy_scrub_changed') => ({
    why: issue(code, { environment: place }),
  });
  if (!scrub) return no('copy_unscrubbed');
  if (!copies) return no('copy_unpermitted');
  return canonical(copies) === canonical(scrub) ? { scrub } : no('copy_scrub_changed');
}

/** Decides what a resource that is new begins as; null where nothing is to be decided. What is to be copied first is asked for. */
export async function beginning(context: Context, row: ResourceRow): Promise<Beginning | null> {
  const { origin } = row;
  const fresh = row.state === 'asked' || row.state === 'making';
  if (!origin || !fresh || !row.wanted || row.data_of || row.origin_issue || row.ready_at) return null;
  return context.records.transition('resource.origin', async (db): Promise<Beginning> => {
    const own = await environmentById(db, row.environment_id);
    const project = await projectById(db, own.project_id);
    const place = `${project.name}/${origin.copy}`;
    const empty = (why: Issue) => ({ empty: why });
    if (row.place === 'untrusted') return empty(issue('copy_untrusted'));
    const source = await findEnvironment(db, project.id, origin.copy);
    const of = source && (await lockResource(db, source.id, row.name));
    if (!source || !of || of.kind !== row.kind || !of.wanted || source.live_id === null)
      return empty(issue('copy_absent', { environment: place, name: row.name }));
    if (of.place === 'elsewhere') return empty(issue('copy_elsewhere', { environment: place, name: row.name }));
    const allowed = await permitted(db, source, place);
    if ('why' in allowed) return empty(allowed.why);
    const known = (await snapshotsOf(db, of.id)).filter(
      (one) => one.place === row.place && scrubStands(one, allowed.scrub),
    );
    const ask = () =>
      addSnapshot(db, {
        resource: of.id,
        place: row.place,
        actor: 'engine',
        freshMs: origin.freshMs,
        deployment: source.live_id,
      });
    const chosen = choose(context, known, origin.freshMs, source.live_id);
    if ('none' in chosen) return empty(chosen.none);
    if ('use' in chosen) {
      if (chosen.ask) await ask();
      await keepFresh(db, chosen.use, origin.freshMs);
      const found = known.find((one) => one.id === chosen.use) as SnapshotRow;
      return { of: found, why: chosen.late };
    }
    await awaitSnapshot(db, row.id, 'wait' in chosen ? chosen.wait : await ask());
    return 'waits';
  });
}

const choose = (
  { now }: Pick<Context, 'now'>,
  known: readonly SnapshotRow[],
  freshMs: number,
  live: string | null,
): Chosen =>
  chooseSnapshot(
    known.flatMap((one): Known[] =>
      one.wanted
        ? [
            {
              id: one.id,
              state: one.state,
              issue: one.issue,
              of: one.of_at?.getTime() ?? null,
              ended: one.ended_at?.getTime() ?? null,
              deployment: one.deployment_id,
            },
          ]
        : [],
    ),
    { now: now(), freshMs, live },
  );

/** A person asks for a new snapshot; one that is made already is the answer. */
export async function askSnapshot(db: Db, at: Place, actor: string): Promise<SnapshotRow> {
  const environment = await openEnvironment(db, at.project, at.environment);
  const place = placeOf(at.project, environment);
  const resource = await lockResource(db, environment.id, at.name);
  if (!resource) throw resourceUnknown(at.project, at.environment, at.name);
  if (resource.place === 'elsewhere') throw new CodedError('resource_elsewhere');
  if (resource.state !== 'ready' || environment.live_id === null)
    throw new CodedError('resource_not_ready', { name: at.name, environment: place, state: resource.state });
  const allowed = await permitted(db, environment, place);
  if ('why' in allowed) throw new CodedError('snapshot_unplanned', { environment: place });
  const coming = (await snapshotsOf(db, resource.id)).find(
    (one) => one.wanted && snapshotComing(one.state) && scrubStands(one, allowed.scrub),
  );
  const id =
    coming?.id ??
    (await addSnapshot(db, {
      resource: resource.id,
      place: 'review',
      actor,
      freshMs: defaultFreshMs,
      deployment: environment.live_id,
    }));
  if (!coming)
    await recordEvents(db, {
      type: 'snapshot.asked',
      project: at.project.id,
      subject: place,
      actor,
      data: { resource: resource.name },
    });
  return (await snapshotById(db, id)) as SnapshotRow;
}

/** An owner permits copies of an environment's data, made fit by the scrub that main declares now; or no more. */
export async function permitCopies(
  db: Db,
  project: ProjectRow,
  name: string,
  { permit, actor }: { permit: boolean; actor: string },
): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  if (environment.kind === 'review') throw new CodedError('copies_standing', { environment: place });
  const scrub = permit ? await scrubOf(db, environment) : null;
  if (permit && !scrub) throw new CodedError('snapshot_unplanned', { environment: place });
  await setCopies(db, environment.id, scrub);
  // What was forbidden ends, also where it is permitted again before anybody has looked.
  await lookAtSnapshots(db, { environment: environment.id }, { end: !permit });
  await recordEvents(db, {
    type: 'environment.copies',
    project: project.id,
    subject: place,
    actor,
    data: { permitted: permit, ...(scrub ? { part: scrub.part, run: scrub.run } : {}) },
  });
  return environment;
}
