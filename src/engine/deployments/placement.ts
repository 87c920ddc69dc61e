/** Which of the instances that wait an agent takes: as core places them among all agents that are there. */
import { type Issue, issue } from '../../core/errors/errors.js';
import { largestRoom, mayHave, place } from '../../core/placement/place.js';
import { sizeText } from '../../core/sizes.js';
import {
  claimInstances,
  type InstanceRow,
  lockPlaces,
  roomsNow,
  waitingInstances,
} from '../../records/deployments/instances.js';
import { volumePlaces } from '../../records/resources/volumes.js';
import type { Db } from '../context.js';

/** Of so many that wait longest it is said where they go: those that find no room hold up nobody behind them. */
const atMost = 5_000;

/** `short`: some instance found no room now, and would where others make some. */
export async function takeInstances(
  db: Db,
  agent: { id: string; address: string },
  places: number,
): Promise<{ short: boolean }> {
  await lockPlaces(db);
  const waiting = await waitingInstances(db, atMost);
  if (waiting.length === 0) return { short: false };
  const rooms = (await roomsNow(db)).map((room) => (room.id === agent.id ? { ...room, places } : room));
  const placed = place(waiting, rooms);
  const own = waiting.filter((one) => placed.get(one.id) === agent.id).map((one) => one.id);
  if (own.length) await claimInstances(db, agent, own);
  // Nobody makes room for what would have none anyway.
  const most = rooms.some((room) => room.memory === null)
    ? Infinity
    : Math.max(0, ...rooms.map((room) => room.memory ?? 0));
  return { short: waiting.some((one) => !placed.has(one.id) && one.memory <= most && mayHave(one, agent)) };
}

/** The machine that a part of it waits for, or why none can have it; or null. */
async function waitsForVolume(db: Db, deployment: string): Promise<Issue | null> {
  const places = await volumePlaces(db, deployment);
  const away = places.find((one) => !one.alive);
  if (away) return issue('volume_waits', { part: away.part, name: away.name, agent: away.agent });
  for (const part of new Set(places.map((one) => one.part))) {
    const agents = [...new Set(places.flatMap((one) => (one.part === part ? [one.agent] : [])))].sort();
    if (agents.length > 1) return issue('volume_apart', { part, agents: agents.join(', ') });
  }
  return null;
}

/** Why the first of these that waits for an agent finds none, or null where it may yet. */
export async function noRoomFor(
  db: Db,
  instances: readonly Pick<InstanceRow, 'deployment_id' | 'part' | 'state' | 'wanted' | 'memory'>[],
): Promise<Issue | null> {
  const waiting = instances.find((one) => one.wanted && one.state === 'waiting');
  if (!waiting) return null;
  const away = await waitsForVolume(db, waiting.deployment_id);
  if (away) return away;
  const largest = largestRoom(await roomsNow(db));
  return largest === null || largest >= waiting.memory
    ? null
    : issue('no_room', { part: waiting.part, memory: sizeText(waiting.memory), largest: sizeText(largest) });
}
