/** Looks at what instances take, every ten seconds, and sends it on. */
import type { AgentFigures } from '../../wire/environments/figures.js';
import { openOutbox } from '../../wire/rooms/outbox.js';
import type { AgentContext } from '../context.js';
import { usageOf } from '../sandbox/limits.js';

const slotMs = 10_000;
/** Batches that wait for a service that is away; of more the oldest are left out. */
const mostWaiting = 360;

export interface Sampler {
  stop(): void;
}

/** `running`: ids of the instances that are here. */
export function startSampler(context: AgentContext, boot: string, running: () => string[]): Sampler {
  const before = new Map<string, number>();
  const outbox = openOutbox<AgentFigures>(
    (one) => context.client.post('/api/agent/figures', one),
    mostWaiting,
    (error, lost) => context.log.warn({ error: String(error), lost }, 'figures could not be sent; trying again'),
  );
  let batch = 0;
  const look = (): void => {
    // It was taken in the slot that is over.
    const at = (Math.floor(Date.now() / slotMs) - 1) * (slotMs / 1_000);
    const ids = running();
    const figures = ids.flatMap((instance) => {
      const usage = usageOf(context.host.limits, instance);
      if (!usage) return [];
      // What it took before this agent looked is in no slot.
      const cpu = Math.max(0, usage.cpuMs - (before.get(instance) ?? usage.cpuMs));
      before.set(instance, usage.cpuMs);
      return [{ at, instance, cpu, memory: usage.memory }];
    });
    for (const id of before.keys()) if (!ids.includes(id)) before.delete(id);
    if (figures.length) outbox.put({ boot, batch: ++batch, figures });
  };
  const timer = setInterval(look, slotMs);
  timer.unref();
  return {
    stop() {
      clearInterval(timer);
      void outbox.close(0);
    },
  };
}
