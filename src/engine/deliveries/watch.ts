/** Looks for what is wrong, and tells its beginning and its end as events: all that is told to anybody comes from those. */
import { type Condition, type KnownCondition, stepConditions } from '../../core/alerts/conditions.js';
import { wording } from '../../core/errors/errors.js';
import {
  knownConditions,
  lockConditions,
  presentConditions,
  putConditions,
} from '../../records/deliveries/conditions.js';
import { recordEvents } from '../../records/events.js';
import type { Context } from '../context.js';

/** Milliseconds between two looks. */
export const watchEvery = 10_000;

export async function watchConditions(context: Context): Promise<boolean> {
  const full = await context.full();
  const own: Condition[] = full
    ? [
        {
          topic: 'disk-full',
          place: 'the service',
          of: '',
          project: null,
          environment: null,
          says: wording(full).says,
        },
      ]
    : [];
  await context.records.transition('conditions.watched', async (db) => {
    if (!(await lockConditions(db))) return;
    const before = await knownConditions(db);
    const present = [...(await presentConditions(db)), ...own];
    if (before.length === 0 && present.length === 0) return;
    const { known, began, ended } = stepConditions(before, present, context.now(), context.patience);
    await putConditions(db, known);
    await recordEvents(
      db,
      ...began.map((one) => eventOf('alert.began', one, {})),
      ...ended.map((one) => eventOf('alert.ended', one, { lastedMs: (one.goneAt ?? 0) - (one.begunAt ?? 0) })),
    );
  });
  return false;
}

const eventOf = (
  type: 'alert.began' | 'alert.ended',
  { topic, place, of, project, environment, says }: KnownCondition,
  more: Record<string, number>,
) => ({ type, project, subject: place, actor: 'engine', data: { topic, of, environment, says, ...more } });
