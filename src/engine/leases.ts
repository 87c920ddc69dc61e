/** Looks for work whose holder gave no sign of life, and for what was told to stop before anyone took it. */
import { strayAttempts, stoppedWaiting } from '../records/attempts.js';
import { listAgents } from '../records/agents.js';
import { strayInstances } from '../records/instances.js';
import { loseAttempt, loseInstance, stopWaiting } from './reports.js';
import type { Context } from './context.js';

/**
 * A worker must never run twice: an agent that can't renew its lease ends its workers by itself within the lease, and only
 * after that margin are they counted lost here.
 */
export async function stepLeases(context: Context): Promise<boolean> {
  const attempts = await strayAttempts(context.records, null, null);
  const agents = attempts.length ? await listAgents(context.records) : [];
  for (const attempt of attempts) await loseAttempt(context, attempt, agents.find((agent) => agent.id === attempt.agent_id)?.name ?? 'unknown');
  for (const attempt of await stoppedWaiting(context.records)) await stopWaiting(context, attempt);
  for (const instance of await strayInstances(context.records, context.timing.lease)) await loseInstance(context, instance);
  return false;
}
