/** Looks at what instances take, every ten seconds, and sends it on. */
import { backoff } from '../../core/backoff.js';
import type { AgentFigures } from '../../wire/figures.js';
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
  const waiting: AgentFigures[] = [];
  let batch = 0;
  let sending = false;
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
    if (figures.length) waiting.push({ boot, batch: ++batch, figures });
    if (waiting.length > mostWaiting) waiting.shift();
    void send();
  };
  const send = async (): Promise<void> => {
    if (sending) return;
    sending = true;
    let failures = 0;
    for (let first = waiting[0]; first && !context.stopped(); first = waiting[0]) {
      try {
        await context.client.post('/api/agent/figures', first);
        if (waiting[0] === first) waiting.shift();
        failures = 0;
      } catch (error) {
        failures++;
        if (failures === 1) context.log.warn({ error: String(error) }, 'figures could not be sent; trying again');
        await new Promise((resolve) => setTimeout(resolve, backoff('poll', failures)).unref());
      }
    }
    sending = false;
  };
  const timer = setInterval(look, slotMs);
  timer.unref();
  return { stop: () => clearInterval(timer) };
}
