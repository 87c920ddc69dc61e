/** Small sets of files travel with the work that needs them: to ask for them takes longer than they do. */
import { LRUCache } from 'lru-cache';
import type { Context } from '../engine/context.js';
import { smallLayer } from '../git/layer.js';
import type { AttemptWork } from '../wire/rooms/work.js';
import { knownFiles } from './work.js';

/** Files and bytes of a layer that travels so. */
const mostFiles = 64;
const mostBytes = 64 * 1024;

export interface SmallFiles {
  /** The work with its files, where they are few and small and this agent was not told of them lately. */
  add(agent: string, work: AttemptWork): Promise<AttemptWork>;
}

export function smallFiles(context: Context): SmallFiles {
  /** Key of a set of files → its layer as base64; empty where it is too large. */
  const layers = new LRUCache<string, string>({
    maxSize: 16 * 1024 * 1024,
    sizeCalculation: (layer) => layer.length + 200,
  });
  const told = new LRUCache<string, true>({ max: 10_000 });
  return {
    async add(agent, work) {
      const { files } = work;
      const known = context.steps.known(work.id);
      if (!files || files.count > mostFiles || !known || told.has(`${agent} ${files.key}`)) return work;
      let layer = layers.get(files.key);
      if (layer === undefined) {
        const { repository, files: list } = await knownFiles(context, known);
        // What can't be read is asked for by the agent, and told in words there.
        layer = (await smallLayer(repository, list, mostBytes).catch(() => null))?.toString('base64') ?? '';
        layers.set(files.key, layer);
      }
      if (layer === '') return work;
      told.set(`${agent} ${files.key}`, true);
      return { ...work, files: { ...files, layer } };
    },
  };
}
