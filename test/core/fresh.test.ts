/** Fresh programs, place by place: by example, and by worlds in which they end, fail, and edges are late. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { filled, freshen, routable, type WishedPart } from '../../src/core/advance/fresh.js';
import { instanceOver, type KeptInstance, replaceEnded } from '../../src/core/advance/keep.js';

const one = (change: Partial<KeptInstance> = {}): KeptInstance => ({
  id: 'a',
  part: 'api',
  kind: 'server',
  position: 1,
  state: 'ready',
  wanted: true,
  restarts: 0,
  livedMs: 0,
  letDown: false,
  fresh: 0,
  ...change,
});
const wishes: WishedPart[] = [
  { name: 'api', kind: 'server', count: 2, fresh: 1 },
  { name: 'bell', kind: 'worker', count: 1, fresh: 1 },
];

describe('fresh programs', () => {
  it('start beside the servers that they replace, which end when the edges know', () => {
    const old = [one({ id: 'a' }), one({ id: 'b', position: 2 })];
    const facts = { instances: old, wishes: wishes.slice(0, 1), moving: false, told: true };
    expect(freshen(facts)).toEqual({
      start: [
        { part: 'api', kind: 'server', position: 1 },
        { part: 'api', kind: 'server', position: 2 },
      ],
      end: [],
      waits: false,
    });
    const both = [...old, one({ id: 'c', fresh: 1 }), one({ id: 'd', position: 2, fresh: 1, state: 'starting' })];
    expect(routable(both, wishes).map((each) => each.id)).toEqual(['b', 'c']);
    expect(freshen({ ...facts, instances: both, told: false })).toEqual({ start: [], end: [], waits: true });
    expect(freshen({ ...facts, instances: both })).toEqual({ start: [], end: ['a'], waits: false });
    expect(freshen({ ...facts, moving: true }).start).toEqual([]);
  });
  it('of workers start when the one before has ended', () => {
    const worker = one({ id: 'w', part: 'bell', kind: 'worker' });
    const facts = { wishes: wishes.slice(1), moving: false, told: true };
    expect(freshen({ ...facts, instances: [worker] })).toMatchObject({ start: [], end: ['w'] });
    expect(freshen({ ...facts, instances: [{ ...worker, wanted: false }] })).toMatchObject({ start: [], end: [] });
    expect(freshen({ ...facts, instances: [{ ...worker, wanted: false, state: 'ended' }] }).start).toHaveLength(1);
  });
  it('that fail wait before they are tried again, however well the old ones are', () => {
    const failed = one({ id: 'n', fresh: 1, state: 'failed', restarts: 3 });
    expect(replaceEnded([one(), failed], { moving: false })).toMatchObject({
      giveUp: ['n'],
      start: [{ position: 1, restarts: 4 }],
    });
    // And an old one that ends beside a fresh one is not filled again.
    expect(
      replaceEnded([one({ state: 'ended' }), one({ id: 'n', fresh: 1, state: 'starting' })], { moving: false }).start,
    ).toEqual([]);
  });

  const happening = fc.constantFrom('step', 'step', 'ready', 'edges', 'gone', 'fails', 'dies', 'wish', 'more', 'fewer');
  it('come to what is wished in the end; on the way no ready place is lost and no worker doubled', () => {
    fc.assert(
      fc.property(fc.array(happening, { maxLength: 60 }), (list) => {
        let count = 0;
        const fresh = { api: 0, bell: 0 };
        const asked = { api: 2, bell: 1 };
        let rows: KeptInstance[] = [];
        let table: string[] = [];
        let edges: string[] = [];
        const wished = (): WishedPart[] => [
          { name: 'api', kind: 'server', count: asked.api, fresh: fresh.api },
          { name: 'bell', kind: 'worker', count: asked.bell, fresh: fresh.bell },
        ];
        const add = (place: { part: string; kind: 'server' | 'worker'; position: number; restarts?: number }) =>
          rows.push(
            one({
              restarts: 0,
              ...place,
              id: String(count++),
              state: 'starting',
              fresh: fresh[place.part as 'api' | 'bell'],
            }),
          );
        const set = (id: string | undefined, change: Partial<KeptInstance>) => {
          rows = rows.map((row) => (row.id === id ? { ...row, ...change } : row));
        };
        const happen = (what: string): void => {
          if (what === 'edges') edges = table;
          else if (what === 'wish') {
            fresh.api++;
            fresh.bell++;
          } else if (what === 'more') asked.api = Math.min(4, asked.api + 1);
          else if (what === 'fewer') asked.api = Math.max(1, asked.api - 1);
          else if (what === 'ready')
            set(rows.find((row) => row.state === 'starting' && row.wanted)?.id, { state: 'ready' });
          else if (what === 'gone') set(rows.find((row) => !row.wanted && !instanceOver(row))?.id, { state: 'ended' });
          else if (what === 'fails') set(rows.find((row) => row.state === 'starting')?.id, { state: 'failed' });
          else if (what === 'dies')
            set(rows.find((row) => row.state === 'ready' && row.wanted)?.id, { state: 'failed' });
          else {
            const { giveUp, start } = replaceEnded(rows, { moving: false });
            for (const id of giveUp) set(id, { wanted: false });
            for (const place of start) add(place);
            const now = routable(rows, wished())
              .filter((row) => row.kind === 'server')
              .map((row) => row.id);
            // A table without any server stays as it was.
            if (now.length) table = now;
            const told = edges.join() === table.join() && now.join() === table.join();
            const step = freshen({ instances: rows, wishes: wished(), moving: false, told });
            for (const id of step.end) {
              const row = rows.find((each) => each.id === id) as KeptInstance;
              // No edge has it in its table, and none that is asked for is given up for nothing.
              if (row.kind === 'server' && row.state === 'ready') expect(edges).not.toContain(id);
              set(id, { wanted: false });
            }
            for (const place of step.start) add(place);
          }
          const workers = rows.filter((row) => row.kind === 'worker' && !instanceOver(row));
          expect(workers.length).toBeLessThanOrEqual(1);
        };
        for (const what of list) happen(what);
        for (let round = 0; round < 60; round++) for (const what of ['step', 'ready', 'edges', 'gone']) happen(what);
        const alive = rows.filter((row) => !instanceOver(row));
        expect(
          alive
            .filter((row) => row.part === 'api')
            .map((row) => [row.position, row.fresh])
            .sort(),
        ).toEqual(Array.from({ length: asked.api }, (_, at) => [at + 1, fresh.api]));
        expect(alive.filter((row) => row.part === 'bell')).toHaveLength(1);
        expect(filled(rows, wished(), 'server')).toBe(asked.api);
        expect(table.length).toBe(asked.api);
      }),
    );
  });
});
