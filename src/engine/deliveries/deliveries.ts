/**
 * Tells subscriptions what there is to tell: each by itself and in order, so that one whose server hangs holds nobody else up. The
 * cursor and what waits change in one transaction; what was sent and not recorded is sent again under the same id.
 */
import { type DeliveryStep, deliveryDone } from '../../core/advance/deliveries.js';
import { gatherMs, kindOf, mostTogether, topicOf } from '../../core/alerts/match.js';
import type { Item } from '../../core/alerts/words.js';
import type { Issue } from '../../core/errors/errors.js';
import {
  addDeliveries,
  type DeliveryRow,
  firstWaiting,
  heardEvents,
  leaveOut,
  openDelivery,
  setItems,
  settleDelivery,
} from '../../records/deliveries/deliveries.js';
import {
  lockHeldSubscription,
  type SubscriptionRow,
  setCursor,
  settleSubscription,
  takeSubscription,
  wakeSubscriptions,
} from '../../records/deliveries/subscriptions.js';
import { recordEvents } from '../../records/events.js';
import { personName } from '../../records/callers/people.js';
import type { Context, Db } from '../context.js';
import { whileHeld } from '../held.js';
import { type Lanes, openLanes } from '../lanes.js';
import { itemOf } from './items.js';
import { send } from './send.js';

/** Subscriptions that one service works on at a time. */
const lanes = 6;
const eventsAtOnce = 500;
/** Messages of one subscription that may wait. */
const mostWaiting = 1_000;

export const deliveryLanes = (context: Context, free: () => void): Lanes =>
  openLanes({
    name: 'subscription',
    count: lanes,
    take: async () => {
      const row = await takeSubscription(context.records, context.timing.lease);
      if (row) return row;
      await wakeSubscriptions(context.records, context.patience.mailMs);
      return takeSubscription(context.records, context.timing.lease);
    },
    work: (row) => step(context, row),
    free,
    log: context.log,
  });

async function step(context: Context, row: SubscriptionRow): Promise<void> {
  const { records } = context;
  const more = await gather(context, row);
  if (more === null) return;
  let last: Issue | null = row.issue;
  for (;;) {
    const next = await firstWaiting(records, row.id);
    if (!next) return void (await settleSubscription(records, row, last, more ? 0 : null));
    if (next.in_ms > 0) return void (await settleSubscription(records, row, last, more ? 0 : Math.max(5, next.in_ms)));
    const sent = await whileHeld(context, 'subscriptions', row, () => send(context, row, next));
    const done = deliveryDone(next.tries, context.now() - next.created_at.getTime(), sent);
    last = done.issue;
    const mine = await records.transition('delivery.settled', (db) => settle(db, row, next, done));
    if (!mine) return;
  }
}

async function settle(db: Db, row: SubscriptionRow, next: DeliveryRow, done: DeliveryStep): Promise<boolean> {
  if (!(await lockHeldSubscription(db, row))) return false;
  await settleDelivery(db, next.id, done);
  if (done.state === 'given up')
    await recordEvents(db, {
      type: 'delivery.given-up',
      project: row.project_id,
      subject: row.name ?? row.channel,
      actor: 'engine',
      data: { why: done.issue?.code ?? null },
    });
  return true;
}

/** Takes in what has happened since; whether there is more; null when it is somebody else's by now. */
async function gather(context: Context, row: SubscriptionRow): Promise<boolean | null> {
  return context.records.transition('delivery.gathered', async (db) => {
    if (!(await lockHeldSubscription(db, row))) return null;
    const kind = kindOf({ channel: row.channel, person: row.person_id });
    const events = await heardEvents(db, { kind, project: row.project_id }, row.after, eventsAtOnce);
    const last = events.at(-1);
    if (!last) return false;
    const subscribed = {
      channel: row.channel,
      topics: row.topics,
      project: row.project_id,
      environment: row.environment,
      person: row.person_id === null ? null : await personName(db, row.person_id),
    };
    const fresh: { number: string; items: Item[] }[] = [];
    for (const event of events) {
      const topic = topicOf(subscribed, event);
      if (topic === 'status') fresh.push({ number: event.number, items: [] });
      else if (topic) fresh.push({ number: event.number, items: [itemOf(context, event, topic)] });
    }
    const waitMs = gatherMs(row.channel, context.patience);
    if (waitMs === 0)
      await addDeliveries(
        db,
        row.id,
        fresh.map((one) => ({ ...one, waitMs })),
      );
    else await together(db, row.id, fresh, waitMs);
    await leaveOut(db, row.id, mostWaiting);
    await setCursor(db, row.id, last.number);
    return events.length === eventsAtOnce;
  });
}

/** What comes soon after each other goes in one message. */
async function together(
  db: Db,
  subscription: string,
  fresh: readonly { number: string; items: Item[] }[],
  waitMs: number,
): Promise<void> {
  const items = fresh.flatMap((one) => one.items);
  const [first] = fresh;
  if (!first || items.length === 0) return;
  const open = await openDelivery(db, subscription);
  const room = open ? Math.max(0, mostTogether - open.items.length) : 0;
  if (open && room > 0) await setItems(db, open.id, [...open.items, ...items.slice(0, room)]);
  const rest = items.slice(room);
  const pieces = Array.from({ length: Math.ceil(rest.length / mostTogether) }, (_, at) =>
    rest.slice(at * mostTogether, (at + 1) * mostTogether),
  );
  await addDeliveries(
    db,
    subscription,
    pieces.map((piece) => ({ number: first.number, items: piece, waitMs })),
  );
}
