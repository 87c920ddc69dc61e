/** The facts of a deployment on its way, read under its locks. */
import { instanceOver } from '../../core/advance/keep.js';
import type { DeploymentFacts, StepFact } from '../../core/advance/deployments.js';
import type { Route } from '../../core/cutover/route.js';
import { type Issue, issue, registry, wording } from '../../core/errors/errors.js';
import { type EdgeRow, hasTable, listEdges, routeBody } from '../../records/callers/edges.js';
import { type DeploymentRow, movingDeployments } from '../../records/deployments/deployments.js';
import { dataIsNew } from '../../records/deployments/environments.js';
import { runningJobs } from '../../records/jobs/jobs.js';
import { type AttemptRow, attemptsOfDeployment } from '../../records/runs/attempts.js';
import { resourceFacts } from './needs.js';
import { noRoomFor } from './placement.js';
import { forbidden } from '../promotion/rules.js';
import { asked, facts, type Made, type Scene } from './scene.js';
import { isShared, wayOf } from './shares.js';

/** States in which a deployment may have the traffic for good. */
export const serves = (state: DeploymentRow['state']): boolean => state === 'live' || state === 'failed';

/** What steps that follow each other in one transaction read once: nothing that one of them does meanwhile changes it. */
export interface Read {
  attempts: AttemptRow[];
  moving: DeploymentRow[];
  edges: EdgeRow[];
  route: Route | null;
}

/** `made`: it was made in this transaction. */
export const readFor = async ({ db, deployment, environment }: Scene, made?: Made): Promise<Read> => ({
  attempts: made ? [] : await attemptsOfDeployment(db, deployment.id),
  moving: made?.moving ? [...made.moving, deployment] : await movingDeployments(db, environment.id),
  edges: await listEdges(db),
  route: (await routeBody(db, environment.host)) as Route | null,
});

/** Milliseconds in which all programs of a release must be ready: the longest time that one of them has. */
const startMs = ({ plan }: Scene['release'], usual: number): number =>
  Math.max(...Object.values(plan.parts).map((part) => part.startWithinMs ?? usual), usual);

/** What core asks for about a deployment on its way. `goes`: all of those that it goes with take this step in this transaction. */
export async function deploymentFacts(
  scene: Scene,
  goes: boolean,
  { attempts, moving, edges, route }: Read,
): Promise<DeploymentFacts> {
  const { db, context, deployment, environment, before, release } = scene;
  const stepFact = (kind: 'prepare' | 'seed' | 'verify', declared: boolean): StepFact => {
    const last = attempts.filter((one) => one.kind === kind).at(-1);
    return { declared, attempt: last?.state ?? null, why: last?.issue ? wording(last.issue).says : '' };
  };
  const broken = scene.instances.find((row) => row.wanted && instanceOver(row));
  const tables = edges
    .filter((edge) => edge.alive)
    .map((edge) => ({ edge: edge.name, ...hasTable(edge, environment.host, environment.table_version) }));
  const refusing = tables.find((one) => one.why !== null && !registry[one.why.code]?.retry);
  const seeded = deployment.environment_plan.seed !== undefined;
  return {
    now: context.now(),
    state: deployment.state,
    kind: deployment.kind,
    failure:
      deployment.failure ??
      (environment.state === 'closing' ? issue('environment_closed', { environment: scene.place }) : null),
    // What took the place of another one has its own time.
    since: Math.max(
      deployment.state_since.getTime(),
      ...scene.instances.filter((row) => row.wanted).map((row) => row.created_at.getTime()),
    ),
    // What sleeps is woken first, so that there is something to go back to; what can't be is what this one mends.
    blocked:
      moving.some((one) => one.number < deployment.number) ||
      environment.state === 'falling asleep' ||
      environment.state === 'waking' ||
      (environment.state === 'asleep' && environment.wake_issue === null),
    overtaken:
      deployment.kind === 'automatic' && moving.some((one) => one.number > deployment.number && one.state === 'queued'),
    resources: await resourceFacts(scene, attempts),
    prepare: {
      ...stepFact('prepare', release.plan.prepare !== null),
      mayRepeat: release.plan.prepare?.again === true,
      tries: attempts.filter((one) => one.kind === 'prepare').length,
      stops: release.plan.prepare?.stops === true,
    },
    seed: {
      ...stepFact('seed', seeded),
      fresh: seeded && (await dataIsNew(db, environment.id)),
    },
    closed: route?.closed === true,
    together: deployment.joint_id === null ? null : goes ? 'goes' : 'waits',
    next: route?.next?.deployment === `d${deployment.number}`,
    way: deployment.state === 'cutover' ? await wayOf(scene, route) : null,
    shared: isShared(route, deployment),
    verify: stepFact('verify', deployment.environment_plan.verify !== null),
    serversAsked: asked(scene, 'server'),
    workersAsked: asked(scene, 'worker'),
    servers: facts(scene.instances, 'server'),
    workers: facts(scene.instances, 'worker'),
    noRoom: await noRoomFor(db, scene.instances),
    instanceFailure: broken
      ? (broken.issue ??
        issue(broken.state === 'lost' ? 'agent_lost' : 'ended_at_once', {
          part: broken.part,
          agent: 'of this instance',
          exit: broken.exit ?? '',
          line: '',
        }))
      : null,
    // One that failed with nothing before it serves on: it is what there was, as much as one that is live.
    before:
      before && serves(before.deployment.state)
        ? {
            serversAsked: asked({ ...before, environment }, 'server'),
            workersAsked: asked({ ...before, environment }, 'worker'),
            workers: facts(before.instances, 'worker'),
            servers: facts(before.instances, 'server'),
            // They are waited for where prepare stops the programs, and nowhere else.
            jobs: release.plan.prepare?.stops ? await runningJobs(db, environment.id) : 0,
          }
        : null,
    serving:
      environment.serving_id === deployment.id
        ? 'this'
        : environment.serving_id !== null && environment.serving_id === before?.deployment.id
          ? 'before'
          : 'none',
    acknowledged: tables.every((one) => one.has),
    edgeRefusal: refusing
      ? issue('edge_refused', { edge: refusing.edge, detail: wording(refusing.why as Issue).says })
      : null,
    forbidden:
      deployment.state === 'cutover' && environment.serving_id !== deployment.id ? await forbidden(scene) : null,
    limits: { readyMs: startMs(release, context.timing.ready) + 5_000, cutoverMs: 1_000 },
  };
}
