/** Starts the loops and wakes them by what the records say has changed. */
import { intakeDueMs } from '../records/projects/sources.js';
import { dropOldPasses } from '../records/callers/passes.js';
import { dropOldAnswers, dropOldSessions, dropOldSignIns } from '../records/callers/people.js';
import { dropEmptyPartitions, makeLogPartitions } from '../records/runs/logs.js';
import { nextDue } from '../records/runs/runs.js';
import { forgetOld } from '../records/views/forget.js';
import { carryOutWake, wakesDue } from '../records/deployments/wakes.js';
import type { Context } from './context.js';
import { stepDeployment } from './deployments/deployments.js';
import { stepJoint } from './together/joints.js';
import { stepEnvironment } from './environments/environments.js';
import { controlScale } from './deployments/controlling.js';
import { deliveryLanes } from './deliveries/deliveries.js';
import { watchConditions, watchEvery } from './deliveries/watch.js';
import { addressLanes } from './domains/addresses.js';
import { folderEvery, watchFolder } from './domains/operator.js';
import { jobSteps } from './jobs/jobs.js';
import { countEnded } from './delivery/count.js';
import { rollFigures, tendFigures } from './figures/figures.js';
import { makeFeed, sealEvery, stepSeals } from './feed.js';
import { watchLeases } from './runs/leases.js';
import { startLoop, type Loop } from './loop.js';
import { type Lanes, workLanes } from './lanes.js';
import { sweepRemoved } from './upkeep/upkeep.js';
import { pollLanes, sweepScratch } from './sources/remotes.js';
import { stepRun } from './runs/runs.js';
import { forgetSent } from '../records/deliveries/destinations.js';
import { destinationLanes } from './destinations/destinations.js';
import { dropOldDeliveries } from '../records/deliveries/deliveries.js';
import { forgetCertificates } from '../records/domains/certificates.js';
import { dropOldJobAttempts } from '../records/jobs/jobs.js';
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
import { intakeLanes, sweepHosted } from './sources/sources.js';

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
  const freed = (loop: string) => () => loops[loop]?.wake();
  const jobs = jobSteps(context);
  const polls = pollLanes(context, freed('polls'));
  const lanes = {
    sources: intakeLanes(context, freed('sources')),
    polls,
    runs: workLanes(context, 'runs', 3, (due) => stepRun(context, due), freed('runs')),
    deployments: workLanes(context, 'deployments', 2, (due) => stepDeployment(context, due), freed('deployments')),
    joints: workLanes(context, 'joints', 1, (due) => stepJoint(context, due), freed('joints')),
    environments: workLanes(context, 'environments', 3, (due) => stepEnvironment(context, due), freed('environments')),
    resources: resourceLanes(context, freed('resources')),
    backups: backupLanes(context, freed('backups')),
    snapshots: snapshotLanes(context, freed('snapshots')),
    pictures: pictureLanes(context, freed('pictures')),
    addresses: addressLanes(context, freed('addresses')),
    destinations: destinationLanes(context, freed('destinations')),
    feed: deliveryLanes(context, freed('feed')),
  } satisfies Record<string, Lanes>;
  const loops: Record<string, Loop> = {
    sources: startLoop({
      name: 'sources',
      step: lanes.sources.step,
      sweepMs: sweep,
      log,
      nextDue: () => intakeDueMs(records),
    }),
    hosted: startLoop({ name: 'hosted', step: () => sweepHosted(context).then(() => false), sweepMs: sweep * 6, log }),
    polls: startLoop({
      name: 'polls',
      step: lanes.polls.step,
      nextDue: polls.due,
      sweepMs: sweep * 6,
      log,
    }),
    // What has got a number may be told.
    feed: startLoop({
      name: 'deliveries',
      step: lanes.feed.step,
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
    wakes: startLoop({
      name: 'wakes',
      step: () => records.transition('environments.woken', carryOutWake),
      nextDue: () => wakesDue(records),
      sweepMs: sweep,
      log,
    }),
    runs: startLoop({
      name: 'runs',
      step: lanes.runs.step,
      nextDue: () => nextDue(records, 'runs'),
      sweepMs: sweep,
      log,
    }),
    deployments: startLoop({
      name: 'deployments',
      step: lanes.deployments.step,
      nextDue: () => nextDue(records, 'deployments'),
      sweepMs: sweep,
      log,
    }),
    joints: startLoop({
      name: 'joints',
      step: lanes.joints.step,
      nextDue: () => nextDue(records, 'joints'),
      sweepMs: sweep,
      log,
    }),
    environments: startLoop({
      name: 'environments',
      step: lanes.environments.step,
      nextDue: () => nextDue(records, 'environments'),
      sweepMs: sweep,
      log,
    }),
    resources: startLoop({
      name: 'resources',
      step: lanes.resources.step,
      nextDue: () => nextHeld(records, 'resources'),
      sweepMs: sweep,
      log,
    }),
    backups: startLoop({
      name: 'backups',
      step: lanes.backups.step,
      nextDue: () => nextHeld(records, 'backups'),
      sweepMs: sweep * 2,
      log,
    }),
    snapshots: startLoop({
      name: 'snapshots',
      step: lanes.snapshots.step,
      nextDue: () => nextHeld(records, 'snapshots'),
      sweepMs: sweep * 2,
      log,
    }),
    pictures: startLoop({
      name: 'pictures',
      step: lanes.pictures.step,
      nextDue: () => nextHeld(records, 'pictures'),
      sweepMs: sweep * 2,
      log,
    }),
    addresses: startLoop({
      name: 'addresses',
      step: lanes.addresses.step,
      nextDue: () => nextHeld(records, 'addresses'),
      sweepMs: sweep * 2,
      log,
    }),
    destinations: startLoop({
      name: 'destinations',
      step: lanes.destinations.step,
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
      step: jobs.step,
      nextDue: jobs.due,
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
        while ((await forgetOld(records)) > 0);
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
      const all: Lanes[] = Object.values(lanes);
      // A loop may wait for a free lane, behind a dump of hours.
      for (const one of all) one.end();
      await Promise.all(Object.values(loops).map((loop) => loop.stop()));
      // What takes longer is done again by the service that takes it next.
      await Promise.race([
        Promise.all(all.map((one) => one.over())),
        new Promise((done) => setTimeout(done, endMs).unref()),
      ]);
    },
  };
}
