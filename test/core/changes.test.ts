import { describe, expect, it } from '@jest/globals';
import { changes } from '../../console/src/data/changes';
import { readSearch } from '../../console/src/data/search';
import { eventTypes } from '../../src/records/events';

const keys = [
  ['board'],
  ['runs', 'project=sailings&limit=12'],
  ['projects'],
  ['me'],
  ['run', 'sailings', '12'],
  ['run', 'sailings', '13'],
  ['run', 'tide-tables', '12'],
  ['why', 'sailings', 12, 'failed'],
  ['plan', 'sailings', 'main'],
  ['environment', 'sailings', 'staging'],
  ['variables', 'sailings'],
  ['check', 'tsunagi: 1'],
];
const changed = (type: string, subject: string, source = '/projects/sailings') =>
  keys.filter(changes({ type: `dev.tsunagi.${type}`, subject, source })).map((key) => key.join(' '));

describe('what an event changes', () => {
  const lists = ['board', 'runs project=sailings&limit=12', 'projects'];

  it.each([
    ['task.ended', 'run 12', ['run sailings 12', 'why sailings 12 failed']],
    ['deployment.state', 'd3', ['environment sailings staging']],
    ['variables.changed', 'sailings', ['environment sailings staging', 'variables sailings']],
    ['push.recorded', 'main', ['plan sailings main']],
  ])('%s of %s is that alone, and the lists', (type, subject, expected) => {
    expect(changed(type, subject).sort()).toEqual([...lists, ...expected].sort());
  });

  it('never has a plan made again because something ran, or was brought live', () => {
    for (const type of eventTypes.filter((one) =>
      /^(run|task|attempt|deployment|instance|traffic|evidence)\./.test(one),
    ))
      expect(changed(type, 'run 12').some((key) => key.startsWith('plan'))).toBe(false);
  });

  it('of a person is who one is', () => {
    expect(changed('person.role', 'Mika', '/')).toEqual(['me']);
  });

  it('is known of each kind of event', () => {
    for (const type of eventTypes)
      expect([type, changed(type, 'run 12').length > 0 || /^key\./.test(type)]).toEqual([type, true]);
  });
});

describe('what stands in an address', () => {
  it('is taken where a page knows it, as what it should be', () => {
    const names = ['task', 'line', 'branch'] as const;
    expect(readSearch({ task: 'unit', line: '12', branch: 7, other: 'x' }, names)).toEqual({
      task: 'unit',
      line: 12,
      branch: '7',
    });
    expect(readSearch({ task: ['unit'], line: '-1', branch: 'x'.repeat(401) }, names)).toEqual({});
    expect(readSearch({ line: 1.5 }, names)).toEqual({});
    expect(readSearch({ line: null, task: null, branch: { a: 1 } }, names)).toEqual({});
  });
});
