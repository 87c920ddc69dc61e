/** Whoever has something to do inside a review that sleeps waits until it is awake. */
import { untilClosed } from './signals.js';
import type { FastifyReply } from 'fastify';
import { CodedError, wording } from '../core/errors/errors.js';
import { placeOf } from '../engine/deployments/acts.js';
import { wakeFor } from '../engine/environments/wishes.js';
import { environmentById, type EnvironmentRow, lockEnvironment } from '../records/deployments/environments.js';
import type { ProjectRow } from '../records/projects/projects.js';
import type { Service } from './server.js';

/** Milliseconds for which it is waited for. */
const mostMs = 30_000;

/** Throws `review_asleep` with the reason when it can't be woken, or not in time. */
export async function awake(
  service: Service,
  reply: FastifyReply,
  project: ProjectRow,
  { id }: Pick<EnvironmentRow, 'id'>,
): Promise<void> {
  const { records } = service.context;
  const over = untilClosed(reply.raw, service.closing);
  const until = performance.now() + mostMs;
  let asked = false;
  for (;;) {
    const now = await environmentById(records, id);
    const { state, wake_issue } = now;
    if (state !== 'asleep' && state !== 'falling asleep' && state !== 'waking') return;
    const left = until - performance.now();
    const failed = asked && state === 'asleep' && wake_issue;
    if (failed || left <= 0 || over.aborted)
      throw new CodedError('review_asleep', {
        environment: placeOf(project, now),
        why: wake_issue ? wording(wake_issue).says : 'it takes longer than usual.',
      });
    if (!asked)
      await records.transition('environment.woken', async (db) =>
        wakeFor(service.context, db, await lockEnvironment(db, id)),
      );
    asked = true;
    await service.hub.wait((topic) => topic === `life:${id}`, Math.min(left, 500), over);
  }
}
