import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import type { TaskPlan } from '../../src/core/definition/model.js';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { definitionSchema } from '../../src/core/definition/schema.js';
import { differences } from '../../src/core/fingerprint/differ.js';
import { expandTasks, takesPart } from '../../src/core/plan/expand.js';
import { forecast } from '../../src/core/plan/forecast.js';
import { judgeCases } from '../../src/core/results/compare.js';
import { taskValues } from '../../src/core/variables/task.js';

const one = (keys: string) =>
  `tsunagi: 1\ntasks:\n  t:\n    run: x\n${keys
    .split('\n')
    .map((line) => `    ${line}\n`)
    .join('')}`;
const parse = (text: string) => {
  const { definition, issues } = parseDefinition(text);
  return { definition, said: issues.map((issue) => `${issue.line}:${issue.column} ${issue.code}`) };
};
const task = (keys: string): TaskPlan => {
  const { definition, said } = parse(one(keys));
  expect(said).toEqual([]);
  return definition?.tasks.t as TaskPlan;
};

describe('the keys of a task', () => {
  it('have their defaults', () => {
    expect(task('reads: [a]')).toMatchObject({
      cache: [],
      shards: null,
      each: {},
      retry: 0,
      resources: {},
      reuse: true,
      for: null,
    });
  });

  it.each([
    ['cache: [~/.npm/, target/, ~/.m2]', { cache: ['~/.npm', 'target', '~/.m2'] }],
    ['shards: 2', { shards: 2 }],
    ['shards: 50', { shards: 50 }],
    ['each: { LEVEL: [v1, v2], OS: [deb] }', { each: { LEVEL: ['v1', 'v2'], OS: ['deb'] } }],
    ['each: { VERSION: [1.10, 1.20] }', { each: { VERSION: ['1.10', '1.20'] } }],
    ['retry: 0', { retry: 0 }],
    ['retry: 5', { retry: 5 }],
    ['resources: { db: { kind: postgres } }', { resources: { db: 'postgres' } }],
    ['reuse: false', { reuse: false }],
    ['reuse: true', { reuse: true }],
    ['for: [main, release/*, pull requests]', { for: ['main', 'release/*', 'pull requests'] }],
    ['for: main', { for: ['main'] }],
    [
      'variables: { A: text, B: { from: run.commit }, C: { from: project.name, append: -x } }',
      {
        variables: { A: 'text', B: { from: 'run.commit', append: '' }, C: { from: 'project.name', append: '-x' } },
      },
    ],
    [
      'resources: { db: { kind: postgres } }\nvariables: { URL: { from: db.url, append: "?a=b" }, P: { from: db.password } }',
      {
        variables: { URL: { from: 'db.url', append: '?a=b' }, P: { from: 'db.password', append: '' } },
      },
    ],
  ])('%s', (keys, expected) => {
    expect(task(keys)).toMatchObject(expected);
  });

  it.each([
    ['cache: ~/.npm', ['5:12 wrong_kind']],
    ['cache: [../x]', ['5:13 wrong_text']],
    ['cache: [/var/x]', ['5:13 wrong_text']],
    ['cache: [~/../x]', ['5:13 wrong_text']],
    ['makes: [out/]\ncache: [out/deep/]', ['6:13 cache_and_makes']],
    ['makes: [out/deep/]\ncache: [out/]', ['6:13 cache_and_makes']],
    ['shards: 1', ['5:13 wrong_text']],
    ['shards: 51', ['5:13 wrong_text']],
    ['shards: two', ['5:13 wrong_text']],
    ['each: {}', ['5:11 no_parts']],
    ['each: { LEVEL: [] }', ['5:20 wrong_kind']],
    ['each: { LEVEL: v1 }', ['5:20 wrong_kind']],
    ['each: { LEVEL: [a b] }', ['5:21 wrong_text']],
    ['each: { LEVEL: [v1, v1] }', ['5:20 repeated_value']],
    ['each: { PATH: [a] }', ['5:13 taken_variable']],
    ['each: { A: [x] }\nvariables: { A: y }', ['5:13 one_of_keys']],
    ['each: { A: [a, b, c, d, e], B: [a, b, c, d, e] }\nshards: 10', ['3:3 too_many_pieces']],
    ['retry: 6', ['5:12 wrong_text']],
    ['retry: -1', ['5:12 wrong_text']],
    ['resources: { db: { kind: mysql } }', ['5:30 wrong_choice']],
    ['resources: { db: {} }', ['5:22 required_key']],
    ['resources: { run: { kind: postgres } }', ['5:18 taken_name']],
    ['resources: { DB: { kind: postgres } }', ['5:18 wrong_text']],
    ['reuse: no', ['5:12 wrong_choice']],
    ['for: {}', ['5:10 wrong_kind']],
    ['for: []', ['5:10 wrong_kind']],
    ['for: [-x]', ['5:11 wrong_text']],
    ['for: [pull request]', ['5:11 wrong_text']],
    ['branches: [main]', ['5:5 key_renamed']],
    ['pull_requests: false', ['5:5 key_renamed']],
    ['results: { junit: x.xml }', ['5:14 wrong_kind']],
    ['variables: { A: { from: run.commit, then: x } }', ['5:41 key_renamed']],
    ['variables: { A: { from: db.url } }', ['5:29 unknown_reference']],
    ['variables: { A: { from: run.number } }', ['5:29 unknown_reference']],
    ['variables: { A: { append: x } }', ['5:21 required_key']],
    ['resources: { db: { kind: postgres } }\nvariables: { A: { from: db.link } }', ['6:29 unknown_reference']],
    ['shard: 2', ['5:5 unknown_key']],
  ])('%s is refused at its place', (keys, said) => {
    const parsed = parse(one(keys));
    expect(parsed.said).toEqual(said);
    expect(parsed.definition).toBeNull();
  });

  it('names the nearest reference', () => {
    const { issues } = parseDefinition(one('variables: { A: { from: run.comit } }'));
    expect(issues[0]?.data.hint).toContain('run.commit');
  });

  it('are in the schema for editors', () => {
    const text = JSON.stringify(definitionSchema());
    for (const key of ['cache', 'shards', 'each', 'retry', 'resources', 'reuse', 'for', 'coverage'])
      expect(text).toContain(`"${key}"`);
  });
});

describe('evidence', () => {
  const release = (needs: string, keys: string) => `tsunagi: 1
tasks:
  deps: { run: x, ${keys} }
  unit: { needs: [deps], run: x }
  free: { run: x, for: [main] }
release:
  needs: [${needs}]
  parts:
    page: { kind: site, files: [web/], root: web }
`;
  it('cannot be what some commits leave out, nor can what it needs', () => {
    expect(parse(release('unit', 'for: [main]')).said).toEqual(['3:19 evidence_left_out']);
    expect(parse(release('deps', 'for: [main]')).said).toEqual(['3:19 evidence_left_out']);
    expect(parse(release('unit', 'retry: 0')).said).toEqual([]);
    expect(parse(release('unit', 'retry: 1')).said).toEqual([]);
  });
});

describe('the tasks of a run', () => {
  const of = (text: string) => parse(`tsunagi: 1\ntasks:\n${text}`).definition?.tasks ?? {};
  const main = { branch: 'main', pullRequest: null };
  const names = (text: string, occasion: { branch: string | null; pullRequest: number | null } = main) =>
    expandTasks(of(text), occasion).map((each) => each.name);

  it('are repeated by each and cut by shards, and needs follow', () => {
    const tasks = expandTasks(
      of(
        '  a: { run: x, each: { L: [v1, v2], M: [p] } }\n  b: { run: x, shards: 2 }\n  c: { needs: [a, b], run: x }\n',
      ),
      main,
    );
    expect(tasks.map((each) => [each.name, each.of, each.each, each.shard])).toEqual([
      ['a[v1 p]', 'a', { L: 'v1', M: 'p' }, null],
      ['a[v2 p]', 'a', { L: 'v2', M: 'p' }, null],
      ['b[1/2]', 'b', {}, { index: 1, count: 2 }],
      ['b[2/2]', 'b', {}, { index: 2, count: 2 }],
      ['c', 'c', {}, null],
    ]);
    expect(tasks.at(-1)?.needs).toEqual(['a[v1 p]', 'a[v2 p]', 'b[1/2]', 'b[2/2]']);
    expect(names('  a: { run: x, each: { L: [v1] }, shards: 2 }\n')).toEqual(['a[v1][1/2]', 'a[v1][2/2]']);
  });

  it('leave out what the branch or pull request leaves out, and what needs it', () => {
    const text =
      '  all: { run: x }\n  some: { run: x, for: [main, release/*, pull requests] }\n  after: { needs: [some], run: x }\n  quiet: { run: x, for: "**" }\n';
    expect(names(text)).toEqual(['all', 'some', 'after', 'quiet']);
    expect(names(text, { branch: 'release/1', pullRequest: null })).toEqual(['all', 'some', 'after', 'quiet']);
    expect(names(text, { branch: 'release/1/x', pullRequest: null })).toEqual(['all', 'quiet']);
    expect(names(text, { branch: 'topic', pullRequest: null })).toEqual(['all', 'quiet']);
    expect(names(text, { branch: null, pullRequest: 4 })).toEqual(['all', 'some', 'after']);
    expect(takesPart({ for: ['pull requests'] }, main)).toBe(false);
  });

  it('come with their needs first, whatever the graph', () => {
    const graph = fc.array(
      fc.record({
        needs: fc.array(fc.nat(), { maxLength: 3 }),
        shards: fc.option(fc.integer({ min: 2, max: 3 })),
        quiet: fc.boolean(),
      }),
      {
        minLength: 1,
        maxLength: 8,
      },
    );
    fc.assert(
      fc.property(graph, fc.boolean(), (nodes, pull) => {
        const plans = Object.fromEntries(
          nodes.map((node, at) => [
            `t${at}`,
            {
              ...task('reads: [a]'),
              name: `t${at}`,
              needs: at === 0 ? [] : [...new Set(node.needs.map((need) => `t${need % at}`))],
              shards: node.shards ?? null,
              for: node.quiet ? ['**'] : null,
            },
          ]),
        );
        const tasks = expandTasks(plans, pull ? { branch: null, pullRequest: 1 } : main);
        const seen = new Set<string>();
        for (const each of tasks) {
          for (const need of each.needs) expect(seen.has(need)).toBe(true);
          expect(seen.has(each.name)).toBe(false);
          seen.add(each.name);
          expect(pull && plans[each.of]?.for !== null).toBe(false);
        }
        if (!pull) expect(new Set(tasks.map((each) => each.of)).size).toBe(nodes.length);
      }),
    );
  });

  it('have variables from the run, and leave those of their resources to the agent', () => {
    const plan = task(
      'resources: { db: { kind: postgres } }\neach: { L: [v1] }\nvariables: { A: a, C: { from: run.commit, append: "!" }, B: { from: run.branch }, U: { from: db.url, append: /x } }',
    );
    const [expanded] = expandTasks({ t: plan }, main);
    const facts = { run: { commit: 'c0ffee', branch: null }, project: { name: 'sailings' } };
    expect(taskValues(expanded as never, facts)).toEqual({
      values: { L: 'v1', A: 'a', C: 'c0ffee!', B: '' },
      fromResources: { U: { from: 'db.url', append: '/x' } },
      secrets: {},
      unset: [],
    });
  });

  it('have what people set for the project: plain text, and secrets by their keyed hash alone', () => {
    const plan = task(
      'variables: { A: { from: variable.PLAIN, append: "!" }, B: { from: variable.KEY, append: x }, C: { from: variable.GONE } }',
    );
    const [expanded] = expandTasks({ t: plan }, main);
    const set = { PLAIN: { value: 'p' }, KEY: { version: 3, hash: 'f00' } };
    const facts = { run: { commit: 'c', branch: null }, project: { name: 'sailings' }, set };
    expect(taskValues(expanded as never, facts)).toEqual({
      values: { A: 'p!' },
      fromResources: {},
      secrets: { B: { name: 'KEY', version: 3, hash: 'f00', append: 'x' } },
      unset: ['GONE'],
    });
  });
});

describe('the time of a run', () => {
  it('is that of the longest way through it', () => {
    expect(
      forecast([
        { name: 'a', needs: [], ms: 100 },
        { name: 'b', needs: [], ms: 300 },
        { name: 'c', needs: ['a', 'b'], ms: 50 },
        { name: 'd', needs: ['a'], ms: 200 },
      ]),
    ).toEqual({ path: ['b', 'c'], ms: 350 });
    expect(forecast([])).toEqual({ path: [], ms: 0 });
  });
  it('is not known when a task on the way has no past, and reused ones take none', () => {
    expect(forecast([{ name: 'a', needs: [], ms: null }])).toEqual({ path: ['a'], ms: null });
    expect(
      forecast([
        { name: 'a', needs: [], ms: 0 },
        { name: 'b', needs: ['a'], ms: 70 },
      ]),
    ).toEqual({ path: ['a', 'b'], ms: 70 });
  });
  it('is the greatest sum over all ways, for any graph', () => {
    const graph = fc.array(fc.tuple(fc.array(fc.nat(), { maxLength: 3 }), fc.nat(1000)), {
      minLength: 1,
      maxLength: 9,
    });
    fc.assert(
      fc.property(graph, (nodes) => {
        const tasks = nodes.map(([needs, ms], at) => ({
          name: `t${at}`,
          needs: at === 0 ? [] : [...new Set(needs.map((need) => `t${need % at}`))],
          ms,
        }));
        const longest = (name: string): number => {
          const found = tasks.find((each) => each.name === name) as (typeof tasks)[number];
          return found.ms + Math.max(0, ...found.needs.map(longest));
        };
        const { path, ms } = forecast(tasks);
        expect(ms).toBe(Math.max(...tasks.map((each) => longest(each.name))));
        expect(path.reduce((sum, name) => sum + (tasks.find((each) => each.name === name)?.ms ?? 0), 0)).toBe(ms);
      }),
    );
  });
});

describe('what differs between two fingerprints', () => {
  const base = {
    run: ['x'],
    reads: { count: 1, digest: 'd1' },
    needs: [{ need: 'deps', makes: ['m'], digest: 'sha256:1' }],
    variables: { A: '1' },
    versions: { node: '20.1.0' },
    base: 'b',
    network: false,
  };
  it.each([
    ['its commands', { run: ['y'] }, { input: 'run', name: null, before: 'x', now: 'y' }],
    [
      'a need',
      { needs: [{ need: 'deps', makes: ['m'], digest: 'sha256:2' }] },
      { input: 'needs', name: 'deps', before: 'sha256:1', now: 'sha256:2' },
    ],
    [
      'a new need',
      { needs: [...base.needs, { need: 'more', makes: [], digest: null }] },
      { input: 'needs', name: 'more', before: null, now: 'nothing' },
    ],
    ['a variable', { variables: { A: '2' } }, { input: 'variables', name: 'A', before: '1', now: '2' }],
    ['a variable that is gone', { variables: {} }, { input: 'variables', name: 'A', before: '1', now: null }],
    ['a tool', { versions: { node: '20.2.0' } }, { input: 'versions', name: 'node', before: '20.1.0', now: '20.2.0' }],
    ['the network', { network: true }, { input: 'network', name: null, before: 'false', now: 'true' }],
  ])('%s', (_what, change, expected) => {
    expect(differences(base, { ...base, ...change })).toEqual([expected]);
  });
  it('is nothing for the same, and comes in the order of what tells most', () => {
    expect(differences(base, structuredClone(base))).toEqual([]);
    expect(
      differences(base, { ...base, base: 'c', run: ['z'], variables: { A: '9' } }).map((each) => each.input),
    ).toEqual(['run', 'variables', 'base']);
  });
});

describe('failing tests', () => {
  const result = (states: Record<string, 'passed' | 'failed' | 'skipped'>) => ({
    passed: 0,
    failed: 0,
    skipped: 0,
    cases: Object.entries(states).map(([name, state]) => ({ name, group: 'g', state, ms: 1, message: '', place: '' })),
  });
  it('are new, known or flaky by what they did before', () => {
    const judged = judgeCases(
      result({ fresh: 'failed', known: 'failed', first: 'failed', shaky: 'failed', good: 'passed' }),
      [
        result({ fresh: 'passed', known: 'failed', shaky: 'passed' }),
        result({ fresh: 'passed', known: 'failed', shaky: 'failed' }),
        null,
        result({ fresh: 'passed', known: 'passed', shaky: 'passed', first: 'skipped' }),
      ],
    );
    expect(judged.map((each) => [each.name, each.standing, each.failedBefore, each.seenBefore])).toEqual([
      ['fresh', 'new', 0, 3],
      ['known', 'known', 2, 3],
      ['first', 'new', 0, 0],
      ['shaky', 'flaky', 1, 3],
    ]);
  });
});
