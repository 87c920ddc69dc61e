/** Looks for work whose holder gave no sign of life, and for what was told to stop before anyone took it. */
import { orphanAttempts, strayAttempts, stoppedWaiting } from '../../records/runs/attempts.js';
import { forgiveSilence, listAgents } from '../../records/callers/agents.js';
import { strayInstances } from '../../records/deployments/instances.js';
import { endOrphan, loseAttempt, loseInstance, stopWaiting } from './reports.js';
import type { Context } from '../context.js';

/** Milliseconds for which an agent with the wanted base may be away, such as for a restart of its machine. */
const orphanMs = 600_000;

/**
 * The step of the leases' loop. A worker must never run twice: an agent that can't renew its lease ends its workers by itself
 * within the lease, and only after that margin are they counted lost here.
 */
export function watchLeases(context: Context): () => Promise<boolean> {
  const { lease } = context.timing;
  /** When a look last came to its end: until then nobody could tell whose silence is whose. */
  let lastLook = Number.NEGATIVE_INFINITY;
  return async () => {
    // After a pause in which nobody could renew (this service was away, or its database), leases begin anew. By a clock that nobody
    // sets; a look that fails leaves the pause as long as it was, and one that was held up found what was old by then. Leases are
    // renewed each third of their length: with that, a pause of more than half of it may make one run out.
    const paused = Math.max(lease / 2, 1_000);
    const began = performance.now();
    if (
      began - lastLook > paused ||
      !(await look(context, lease, () => performance.now() - began < Math.min(lease, paused) / 2))
    )
      await forgiveSilence(context.records, Math.max(lease, 3_000));
    lastLook = performance.now();
    return false;
  };
}

/** False, with nothing done, when what it found took so long to be found that it may be old. */
async function look(context: Context, lease: number, fresh: () => boolean): Promise<boolean> {
  const attempts = await strayAttempts(context.records);
  const instances = await strayInstances(context.records, lease);
  if (!fresh()) return false;
  const agents = attempts.length ? await listAgents(context.records) : [];
  for (const attempt of attempts)
    await loseAttempt(context, attempt, agents.find((agent) => agent.id === attempt.agent_id)?.name ?? 'unknown');
  for (const attempt of await stoppedWaiting(context.records)) await stopWaiting(context, attempt);
  for (const attempt of await orphanAttempts(context.records, Math.max(orphanMs, lease * 4)))
    await endOrphan(context, attempt);
  for (const instance of instances) await loseInstance(context, instance, lease);
  return true;
}
