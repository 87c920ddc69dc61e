/** Volumes and what is done to them: which state follows on which, where one is made, and what a definition says of one. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  agentFor,
  changes,
  type ChoreHappening,
  choreNext,
  shareOf,
  type VolumeHappening,
  volumeNext,
} from '../../src/core/advance/chores.js';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { storedDefinition } from '../../src/core/definition/stored.js';
import { choreActs, type ChoreState, choreStates, type VolumeState, volumeStates } from '../../src/core/states.js';

const happenings: ChoreHappening[] = ['taken', 'done', 'failed', 'begun anew', 'dropped'];
const volumeHappenings: VolumeHappening[] = ['ready', 'replaced', 'saved', 'unwanted', 'gone'];

describe('a chore', () => {
  it('is taken, done, and told once', () => {
    expect(choreNext('asked', 'taken')).toBe('given');
    expect(choreNext('given', 'taken')).toBeNull();
    expect(choreNext('given', 'done')).toBe('done');
    expect(choreNext('given', 'failed')).toBe('failed');
    expect(choreNext('asked', 'done')).toBeNull();
  });
  it('is given out again where its agent began anew, and by nobody else', () => {
    expect(choreNext('given', 'begun anew')).toBe('asked');
    expect(choreNext('asked', 'begun anew')).toBeNull();
  });
  it('ends for good: nothing follows on an end, whatever is told later', () => {
    fc.assert(
      fc.property(fc.constantFrom(...choreStates), fc.array(fc.constantFrom(...happenings)), (from, told) => {
        let state: ChoreState = from;
        let over = false;
        for (const one of told) {
          const next = choreNext(state, one);
          if (over) expect(next).toBeNull();
          state = next ?? state;
          over ||= state === 'done' || state === 'failed' || state === 'dropped';
        }
      }),
    );
  });
  it('is dropped from wherever it is not over', () => {
    for (const state of choreStates)
      expect(choreNext(state, 'dropped')).toBe(state === 'asked' || state === 'given' ? 'dropped' : null);
  });
  it('changes what is there, or only reads it', () => {
    expect(choreActs.filter(changes)).toEqual(['make', 'enlarge', 'restore', 'remove']);
  });
});

describe('a volume', () => {
  it('is made, used, left, saved, and removed', () => {
    expect(volumeNext('making', 'ready')).toBe('there');
    expect(volumeNext('there', 'replaced')).toBe('left');
    expect(volumeNext('left', 'saved')).toBe('removing');
    expect(volumeNext('removing', 'gone')).toBe('removed');
  });
  it('is never removed while it is used, or left and not saved, unless nobody wants it', () => {
    for (const happens of volumeHappenings) {
      const next = (['there', 'left'] as const).map((state) => volumeNext(state, happens));
      if (happens !== 'unwanted') expect(next[0]).not.toBe('removing');
      if (happens !== 'unwanted' && happens !== 'saved') expect(next[1]).not.toBe('removing');
    }
    expect(volumeNext('there', 'gone')).toBeNull();
  });
  it('never comes back', () => {
    fc.assert(
      fc.property(fc.constantFrom(...volumeStates), fc.array(fc.constantFrom(...volumeHappenings)), (from, told) => {
        const order = volumeStates.indexOf.bind(volumeStates);
        let state: VolumeState = from;
        for (const one of told) {
          const next = volumeNext(state, one) ?? state;
          expect(order(next)).toBeGreaterThanOrEqual(order(state));
          state = next;
        }
      }),
    );
  });
  it('is as full as was seen', () => {
    expect([shareOf(null, 10), shareOf(5, null), shareOf(5, 0), shareOf(5, 10)]).toEqual([null, null, null, 0.5]);
  });
  it('is made where the others of its environment are, else where the most is left', () => {
    const room = (id: string, taken: number, memory: number | null = 100) => ({ id, name: id, memory, taken });
    expect(agentFor([], [])).toBeNull();
    expect(agentFor([], [room('a', 50), room('b', 10), room('c', 10)])).toBe('b');
    expect(agentFor(['z'], [room('a', 0)])).toBe('z');
    expect(agentFor([], [room('a', 1), room('b', 0, null)])).toBe('b');
  });
});

const definition = (resource: string, part = 'volumes: [uploads]', kind = 'server, start: node a.js') => `tsunagi: 1
release:
  parts:
    api: { kind: ${kind}, ${part} }
  resources:
    uploads: ${resource}
    notes: { kind: postgres }
  variables: { UPLOADS: { from: uploads.path } }
environments:
  staging: { branch: main }
`;
const codes = (text: string) => parseDefinition(text).issues.map((one) => one.code);

describe('a definition', () => {
  it('declares a volume with its size, and which parts see it', () => {
    const { definition: read, issues } = parseDefinition(
      definition('{ kind: volume, size: 1.5G, backup: { every: 1d, try: 7d } }'),
    );
    expect(issues).toEqual([]);
    expect(read?.release?.resources.uploads).toEqual({
      name: 'uploads',
      kind: 'volume',
      extensions: [],
      size: 1.5 * 1024 ** 3,
      backup: { everyMs: 86_400_000, keep: 7, tryMs: 7 * 86_400_000 },
    });
    expect(read?.release?.parts.api?.volumes).toEqual(['uploads']);
    expect(read?.release?.variables.UPLOADS).toEqual({
      kind: 'resource',
      resource: 'uploads',
      field: 'path',
      append: '',
    });
  });
  it.each([
    ['{ kind: volume }', undefined, undefined, ['required_key']],
    ['{ kind: volume, size: 2T }', undefined, undefined, ['required_key', 'wrong_text']],
    ['{ kind: volume, size: 1M }', undefined, undefined, ['required_key', 'wrong_text']],
    ['{ kind: volume, size: 32M, extensions: [pg_trgm] }', undefined, undefined, ['key_not_for']],
    ['{ kind: volume, size: 32M }', 'volumes: [other]', undefined, ['unknown_volume']],
    ['{ kind: volume, size: 32M }', 'volumes: [notes]', undefined, ['unknown_volume']],
    ['{ kind: volume, size: 32M }', 'volumes: [uploads, uploads]', undefined, ['name_twice']],
    ['{ kind: volume, size: 32M }', 'volumes: [uploads]', 'site, root: .', ['key_not_for']],
    ['{ kind: postgres, size: 32M }', 'ready: /', undefined, ['unknown_reference']],
  ])('says what is wrong with %s and %s', (resource, part, kind, expected) => {
    expect(codes(definition(resource, part, kind))).toEqual(expected);
  });
  it('knows no volume of a task', () => {
    const text = 'tsunagi: 1\ntasks:\n  unit: { run: ls, resources: { uploads: { kind: volume } } }\n';
    expect(codes(text)).toHaveLength(1);
  });
  it('of before has none', () => {
    const read = parseDefinition(definition('{ kind: volume, size: 32M }')).definition;
    if (!read?.release) throw new Error('it is one');
    const { volumes: _, ...api } = read.release.parts.api as object & { volumes: string[] };
    const before = { ...read, version: 5, release: { ...read.release, parts: { api } } } as never;
    expect(storedDefinition(before).release?.parts.api?.volumes).toEqual([]);
  });
});
