/** Servers of databases that are nearly full of sessions: reviews that stand still keep theirs, and give them up first. */
import { endFrozen, frozenEnvironments } from '../../records/deployments/life.js';
import type { Context } from '../context.js';

/** Share of a server's sessions above which those that stand still end. */
const crowded = 0.8;
/** Milliseconds for which a server may hold the look at the others up. */
const askMs = 5_000;

/** Ends the programs of reviews that stand still, the longest unused first, until enough of each server's sessions are free. */
export async function makeSessionRoom(context: Pick<Context, 'kinds' | 'records' | 'log'>): Promise<void> {
  for (const [place, server] of context.kinds.servers()) {
    const look = async () => {
      const { sessions, most } = await server.crowd();
      let beyond = sessions - Math.floor(most * crowded);
      if (beyond < 0) return;
      const frozen = await frozenEnvironments(context.records, place);
      const seen = await server.lookAt(frozen.flatMap(({ resources }) => resources));
      const ends: string[] = [];
      for (const { id, resources } of frozen) {
        const own = resources.reduce((sum, one) => sum + (seen.get(one)?.connections ?? 0), 0);
        if (own === 0) continue;
        ends.push(id);
        beyond -= own;
        if (beyond < 0) break;
      }
      if (ends.length === 0) return;
      context.log.info({ place, sessions, most, ends }, 'a server is nearly full of sessions: what stands still ends');
      await endFrozen(context.records, ends);
    };
    const late = new Promise((resolve) => setTimeout(resolve, askMs).unref());
    await Promise.race([
      look().catch((error: Error) =>
        context.log.warn({ place, error: String(error) }, 'its sessions were not counted'),
      ),
      late,
    ]);
  }
}
