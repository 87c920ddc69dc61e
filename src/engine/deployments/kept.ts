/** What is live is kept as it was asked for; what is live no longer cools down. */
import { tableFollows } from '../../core/advance/enter.js';
import { setHealth } from '../../records/deployments/environments.js';
import { makeDue, setDue } from '../../records/runs/runs.js';
import { type Route, sharing } from '../../core/cutover/route.js';
import { targetFor } from './routes.js';
import { markHealth, movingDeployments, stopsPrograms } from '../../records/deployments/deployments.js';
import { moveTraffic } from './apply.js';
import { instancesOf, unwant, unwantOne } from '../../records/deployments/instances.js';
import { filled, freshen } from '../../core/advance/fresh.js';
import { healthOf } from '../../core/advance/environments.js';
import { hasTable, listEdges, routeBody } from '../../records/callers/edges.js';
import { coolDeployment, instanceOver, replaceEnded } from '../../core/advance/keep.js';
import { canonical } from '../../core/canonical.js';
import { endHealth } from './health.js';
import { revert } from './reverts.js';
import { isShared } from './shares.js';
import { CodedError, issue, wording } from '../../core/errors/errors.js';
import { cutoverOf, orderCutover } from '../../records/deployments/cutovers.js';
import { askBack, jointById } from '../../records/deployments/joints.js';
import { someClosed } from '../../records/resources/volumes.js';
import { takeNewLogins } from './needs.js';
import { type Scene, asked, kept, replace, startOne, wishes } from './scene.js';
import { recordEvents } from '../../records/events.js';
import { stepLife } from '../environments/life.js';

/** What is live stays as it was asked for: instances that ended by themselves start again, the table follows, the health is said. */
export async function keepLive(scene: Scene): Promise<void> {
  const { db, environment, release, instances } = scene;
  // What closes ends all of it: nothing is filled again.
  if (environment.state === 'closing') return void (await setDue(db, 'deployments', scene.deployment.id, null));
  // What sleeps or wakes goes on with that; whatever was to be done is done when it is awake.
  if (environment.state !== 'live' && environment.state !== 'empty') {
    await setDue(db, 'deployments', scene.deployment.id, null);
    return void (await stepLife({ context: scene.context, db, environment }));
  }
  const others = await movingDeployments(db, environment.id);
  // Whatever else is on its way or waits: what is live and too bad goes back first, and that ends it.
  if (await takenBack(scene)) return;
  const route = (await routeBody(db, environment.host)) as Route | null;
  // While both have a share, what is live is kept as ever, and the other one's step leads the table along.
  const shared = others.find((one) => isShared(route, one));
  // One that waits for others to go with may do so for long: until they go, what is live is kept as ever.
  const waiting = others.find(
    (one) =>
      one.joint_id !== null &&
      one.state === 'cutover' &&
      !one.failure &&
      environment.serving_id === scene.deployment.id,
  );
  const moving =
    !shared && others.some((one) => one !== waiting && (one.state === 'cutover' || one.state === 'verifying'));
  // Stopped for one that is on its way: nothing is filled again, unless that has failed.
  const closed = route?.closed === true;
  const onTheirWay = others.filter((one) => one.id !== scene.deployment.id && one.state !== 'queued' && !one.failure);
  if (closed && onTheirWay.length > 0 && (await stopsPrograms(db, onTheirWay)))
    return void (await setDue(db, 'deployments', scene.deployment.id, null));
  await replace(scene, replaceEnded(kept(instances), { moving }));
  const deployment = await takeNewLogins(scene);
  const now = await instancesOf(db, deployment.id);
  const wished = wishes({ deployment, release, environment });
  const target = targetFor({ deployment, release, environment, instances: now }, scene.context.keys);
  const sharers = sharing(route);
  const follows = tableFollows({
    serving: environment.serving_id === deployment.id,
    // Nor while files that its programs use are brought back.
    moving: moving || shared !== undefined || (closed && (await someClosed(db, environment.id))),
    changed: closed || canonical([target]) !== canonical(sharers),
    empty: target.paths.some((path) => path.kind === 'server' && path.instances.length === 0),
  });
  if (follows) {
    await moveTraffic({ ...scene, deployment }, deployment, release, now);
    // Edges hear of what is next anew.
    if (waiting) await makeDue(db, 'deployments', waiting.id);
  }
  const edges = (await listEdges(db)).filter((edge) => edge.alive);
  const shown = shared !== undefined && sharers.some((one) => canonical(one) === canonical(target));
  // The one that shares the traffic leads the table along.
  if (shared && !shown) await makeDue(db, 'deployments', shared.id);
  const told =
    (shown || canonical([target]) === canonical(sharers)) &&
    edges.every((edge) => hasTable(edge, environment.host, environment.table_version).has);
  const step = freshen({ instances: kept(now), wishes: wished, moving, told });
  for (const id of step.end) await unwantOne(db, id);
  for (const place of step.start) await startOne({ db, deployment, release, environment }, place);
  const [servers, workers] = [filled(kept(now), wished, 'server'), filled(kept(now), wished, 'worker')];
  const [serversAsked, workersAsked] = [asked(scene, 'server'), asked(scene, 'worker')];
  const health = healthOf(serversAsked + workersAsked, servers + workers, {
    asked: serversAsked,
    ready: servers,
  });
  if (health !== environment.health && environment.serving_id === deployment.id) {
    if (health !== 'good') await endHealth({ ...scene, of: scene });
    await setHealth(db, environment.id, health);
    await markHealth(db, deployment.id, health === 'good');
    // Whatever waits for its good health, or for its poor one, looks again.
    await makeDue(db, 'environments', environment.id);
    await recordEvents(db, {
      type: 'environment.health',
      project: deployment.project_id,
      subject: scene.place,
      actor: 'engine',
      data: { health },
    });
  }
  // Edges that follow wake nobody who is live.
  await setDue(db, 'deployments', deployment.id, follows || step.waits ? 200 : null);
}

/** What is above a bound while the old release is warm goes back by itself. Gives whether it does. */
async function takenBack({ context, db, project, environment, deployment, place }: Scene): Promise<boolean> {
  if (!deployment.environment_plan.guard) return false;
  const row = await cutoverOf(db, deployment.id);
  // Once: what can't be brought back is not tried again and again.
  if (!row?.worse || row.step.at !== 'all' || row.ordered === 'back') return false;
  if (!row.watched_until || row.watched_until.getTime() < context.now()) return false;
  await orderCutover(db, deployment.id, 'back', 'engine');
  // What has gone with others goes back with them.
  if (deployment.joint_id !== null && (await jointById(db, deployment.joint_id))?.state === 'live') {
    await askBack(
      db,
      deployment.joint_id,
      issue('together_worse', { environment: place, why: wording(row.worse).says }),
      'engine',
    );
    await setDue(db, 'deployments', deployment.id, null);
    return true;
  }
  try {
    await revert(context, db, project, environment.name, {
      leaves: deployment.number,
      release: null,
      actor: 'engine',
      why: wording(row.worse).says,
    });
  } catch (error) {
    // There is nothing to go back to: it stays, and its health says how it is.
    if (error instanceof CodedError) return false;
    throw error;
  }
  await setDue(db, 'deployments', deployment.id, null);
  return true;
}

/** A deployment that is no longer live: workers end at once, servers when they have been warm and no edge has them in its table. */
export async function cool(scene: Scene): Promise<void> {
  const { db, environment, deployment, instances } = scene;
  const moving = await movingDeployments(db, environment.id);
  const { effects, health, againMs } = coolDeployment({
    serving: environment.serving_id === deployment.id,
    needed: moving.some((one) => one.replaces_id === deployment.id),
    running: instances.some((row) => row.wanted && !instanceOver(row)),
    serversAsked: asked(scene, 'server'),
    serversUp: instances.filter((row) => row.kind === 'server' && !instanceOver(row)).length,
    warmMs: deployment.warm_until ? deployment.warm_until.getTime() - scene.context.now() : 0,
    acknowledged: (await listEdges(db)).every(
      (edge) => hasTable(edge, environment.host, environment.table_version).has,
    ),
  });
  if (health) await setHealth(db, environment.id, health);
  if (effects.includes('endWorkers')) await unwant(db, deployment.id, 'worker');
  const count = effects.includes('endServers') ? await unwant(db, deployment.id, 'server') : 0;
  if (count)
    await recordEvents(db, {
      type: 'deployment.ended-old',
      project: deployment.project_id,
      subject: `d${deployment.number}`,
      actor: 'engine',
      data: { environment: scene.place },
    });
  await setDue(db, 'deployments', deployment.id, againMs);
}
