/** Starts the loops and wakes them by what the records say has changed. */
import { intakeDueMs } from '../records/projects/sources.js';
import { dropOldPasses } from '../records/callers/passes.js';
import { dropOldAnswers, dropOldSessions, dropOldSignIns } from '../records/callers/people.js';
import { dropEmptyPartitions, makeLogPartitions } from '../records/runs/logs.js';
import { nextPoll } from '../records/projects/projects.js';
import { nextDue } from '../records/runs/runs.js';
import type { Context } from './context.js';
import { stepDeployments } from './deployments/deployments.js';
import { stepJoints } from './together/joints.js';
import { stepEnvironments } from './environments/environments.js';
import { controlScale } from './deployments/controlling.js';
import { deliveryLanes } from './deliveries/deliveries.js';
import { watchConditions, watchEvery } from './deliveries/watch.js';
import { addressLanes } from './domains/addresses.js';
import { folderEvery, watchFolder } from './domains/operator.js';
import { stepJobs } from './jobs/jobs.js';
import { countEnded } from './delivery/count.js';
import { rollFigures, tendFigures } from './figures/figures.js';
import { makeFeed, sealEvery, stepSeals } from './feed.js';
import { watchLeases } from './runs/leases.js';
import { startLoop, type Loop } from './loop.js';
import { sweepRemoved } from './upkeep/upkeep.js';
import { pollSources, sweepScratch } from './sources/remotes.js';
import { stepRuns } from './runs/runs.js';
import { forgetSent } from '../records/deliveries/destinations.js';
import { destinationLanes } from './destinations/destinations.js';
import { dropOldDeliveries } from '../records/deliveries/deliveries.js';
import { forgetCertificates } from '../records/domains/certificates.js';
import { dropOldJobAttempts, nextJob } from '../records/jobs/jobs.js';
import { nextHeld } from '../records/held.js';
import { backupLanes } from './resources/backups.js';
import { makeSessionRoom } from './resources/crowd.js';
import { lookAround } from './resources/look.js';
import { sweepStrays } from './upkeep/strays.js';
import { resourceLanes } from './resources/resources.js';
import { pictureLanes } from './pictures/pictures.js';
import { dropOldPictures } from '../records/deployments/pictures.js';
import { snapshotLanes } from './resources/snapshots.js';
import { dropOldSnapshots } from '../records/resources/snapshots.js';
import { dropOldTerminals } from '../records/deployments/terminals.js';
import { forgetChores } from '../records/resources/chores.js';
import { sweepVolumes } from './resources/volumes.js';
import { sweepTerminals } from './terminals/terminals.js';
import { stepSpace } from './upkeep/space.js';
import { clearForeignRefs, tendRepositories } from './sources/repositories.js';
import { sweepHosted, workIntake } from './sources/sources.js';

/** Milliseconds for which the end waits for work on servers outside. */
const endMs = 5_000;

export interface Engine {
  /** Tells the engine what was heard from the records. */
  heard(topic: string): void;
  stop(): Promise<void>;
}

export async function startEngine(context: Context): Promise<Engine> {
  const { sweep, lease } = context.timing;
  const { log, records } = context;
  await makeLogPartitions(records, new Date(context.now()));
  await tendFigures(context);
  await clearForeignRefs(context);
  await sweepHosted(context);
  const feed = makeFeed(context);
  const working = resourceLanes(context, () => loops.resources?.wake());
  const copying = backupLanes(context, () => loops.backups?.wake());
  const copies = snapshotLanes(context, () => loops.snapshots?.wake());
  const picturing = pictureLanes(context, () => loops.pictures?.wake());
  const naming = addressLanes(context, () => loops.addresses?.wake());
  const sending = destinationLanes(context, () => loops.destinations?.wake());
  const telling = deliveryLanes(context, () => loops.feed?.wake());
  const loops: Record<string, Loop> = {
    sources: startLoop({
      name: 'sources',
      step: () => workIntake(context),
      sweepMs: sweep,
      log,
      nextDue: () => intakeDue(context),
    }),
    hosted: startLoop({ name: 'hosted', step: () => sweepHosted(context).then(() => false), sweepMs: sweep * 6, log }),
    polls: startLoop({
      name: 'polls',
      step: () => pollSources(context),
      nextDue: () => nextPoll(records),
      sweepMs: sweep * 6,
      log,
    }),
    // What has got a number may be told.
    feed: startLoop({
      name: 'deliveries',
      step: () => telling.step(),
      nextDue: () => nextHeld(records, 'subscriptions'),
      sweepMs: sweep,
      gatherMs: 300,
      log,
    }),
    conditions: startLoop({
      name: 'conditions',
      step: () => watchConditions(context),
      sweepMs: Math.min(watchEvery, sweep * 2),
      log,
    }),
    runs: startLoop({
      name: 'runs',
      step: () => stepRuns(context),
      nextDue: () => nextDue(records, 'runs'),
      sweepMs: sweep,
      log,
    }),
    deployments: startLoop({
      name: 'deployments',
      step: () => stepDeployments(context),
      nextDue: () => nextDue(records, 'deployments'),
      sweepMs: sweep,
      log,
    }),
    joints: startLoop({
      name: 'joints',
      step: () => stepJoints(context),
      nextDue: () => nextDue(records, 'joints'),
      sweepMs: sweep,
      log,
    }),
    environments: startLoop({
      name: 'environments',
      step: () => stepEnvironments(context),
      nextDue: () => nextDue(records, 'environments'),
      sweepMs: sweep,
      log,
    }),
    resources: startLoop({
      name: 'resources',
      step: () => working.step(),
      nextDue: () => nextHeld(records, 'resources'),
      sweepMs: sweep,
      log,
    }),
    backups: startLoop({
      name: 'backups',
      step: () => copying.step(),
      nextDue: () => nextHeld(records, 'backups'),
      sweepMs: sweep * 2,
      log,
    }),
    snapshots: startLoop({
      name: 'snapshots',
      step: () => copies.step(),
      nextDue: () => nextHeld(records, 'snapshots'),
      sweepMs: sweep * 2,
      log,
    }),
    pictures: startLoop({
      name: 'pictures',
      step: () => picturing.step(),
      nextDue: () => nextHeld(records, 'pictures'),
      sweepMs: sweep * 2,
      log,
    }),
    addresses: startLoop({
      name: 'addresses',
      step: () => naming.step(),
      nextDue: () => nextHeld(records, 'addresses'),
      sweepMs: sweep * 2,
      log,
    }),
    destinations: startLoop({
      name: 'destinations',
      step: () => sending.step(),
      nextDue: () => nextHeld(records, 'destinations'),
      sweepMs: sweep,
      log,
    }),
    folder: startLoop({ name: 'folder', step: watchFolder(context), sweepMs: folderEvery, log }),
    looks: startLoop({
      name: 'looks',
      step: () =>
        lookAround(context)
          .then(() => makeSessionRoom(context))
          .then(() => false),
      sweepMs: sweep * 6,
      log,
    }),
    scale: startLoop({
      name: 'scale',
      step: () => controlScale(context).then(() => false),
      sweepMs: 10_000,
      log,
    }),
    figures: startLoop({ name: 'figures', step: () => rollFigures(context), sweepMs: 15_000, log }),
    delivery: startLoop({ name: 'delivery', step: () => countEnded(context), sweepMs: sweep * 3, log }),
    leases: startLoop({ name: 'leases', step: watchLeases(context), sweepMs: Math.min(sweep, lease / 4), log }),
    events: startLoop({
      name: 'feed',
      step: () => feed.step(),
      nextDue: () => feed.due(),
      sweepMs: sweep,
      gatherMs: 20,
      log,
    }),
    jobs: startLoop({
      name: 'jobs',
      step: () => stepJobs(context),
      nextDue: () => nextJob(records),
      sweepMs: sweep * 2,
      log,
    }),
    terminals: startLoop({
      name: 'terminals',
      step: () => sweepTerminals(context).then(() => false),
      sweepMs: sweep,
      log,
    }),
    volumes: startLoop({
      name: 'volumes',
      step: () => sweepVolumes(context).then(() => false),
      sweepMs: sweep * 2,
      log,
    }),
    seals: startLoop({ name: 'seals', step: () => stepSeals(context), sweepMs: sealEvery, log }),
    space: startLoop({ name: 'space', step: () => stepSpace(context), sweepMs: context.timing.space, log }),
    // Once an hour, or as often as what it finds may be removed.
    strays: startLoop({
      name: 'strays',
      step: () => sweepStrays(context).then(() => false),
      sweepMs: Math.min(3_600_000, context.timing.stray),
      log,
    }),
    upkeep: startLoop({
      name: 'upkeep',
      step: async () => {
        await makeLogPartitions(records, new Date(context.now()));
        await dropEmptyPartitions(records, new Date(context.now()));
        await tendFigures(context);
        await dropOldAnswers(records);
        await dropOldSessions(records);
        await dropOldSignIns(records);
        await dropOldPasses(records);
        await dropOldSnapshots(records);
        await dropOldPictures(records);
        await forgetCertificates(records);
        await dropOldDeliveries(records);
        await forgetSent(records);
        await dropOldJobAttempts(records);
        await dropOldTerminals(records);
        await forgetChores(records);
        await sweepScratch(context);
        await sweepRemoved(context);
        await tendRepositories(context);
        return false;
      },
      sweepMs: 3_600_000,
      log,
    }),
  };
  return {
    heard(topic) {
      if (topic === '*') for (const loop of Object.values(loops)) loop.wake();
      else loops[topic]?.wake();
    },
    async stop() {
      await Promise.all(Object.values(loops).map((loop) => loop.stop()));
      // What goes on longer is done again by whoever takes it next.
      await Promise.race([
        Promise.all([working, copying, copies, picturing, naming, telling, sending].map((one) => one.over())),
        new Promise((done) => setTimeout(done, endMs).unref()),
      ]);
    },
  };
}

async function intakeDue(context: Context): Promise<number | null> {
  return intakeDueMs(context.records);
}
