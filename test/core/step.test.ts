/** A run's step, alone: for any graph, and ends of attempts in any order, lost, repeated and shared. */
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { lostLimit } from '../../src/core/advance/runs';
import { taskEnded } from '../../src/core/states';
import {
  type Passes,
  type StepEnd,
  type StepPass,
  type StepRun,
  stepRun,
  type StepTask,
  type StepWrites,
  type Tasks,
} from '../../src/core/advance/step';

const run: StepRun = {
  state: 'running',
  line: 'own',
  pullRequest: null,
  stoppedBy: null,
  supersededBy: null,
  fresh: null,
  unreleased: false,
  main: true,
};
const task = (name: string, needs: string[], retry = 0, reuse = true): StepTask => ({
  id: `id-${name}`,
  name,
  state: 'waiting',
  evidence: false,
  model: { name, of: name, needs, retry, reuse } as never,
  base: 'b',
  fingerprint: null,
  output: null,
  attempt: null,
  tries: 0,
  lost: 0,
  failed: 0,
});
const ids = (from = 0) => {
  let count = from;
  return {
    newId: () => `attempt-${++count}`,
    count: () => count,
    identify: (one: StepTask, byName: Tasks) => ({
      fingerprint: `${one.name}(${one.model.needs.map((need) => byName.get(need)?.output).join()})`,
      inputs: null,
    }),
  };
};
const end = (attempt: string, state: StepEnd['state'], issue: StepEnd['issue'] = null): StepEnd => ({
  attempt,
  state,
  issue,
  output: state === 'passed' ? { digest: `made by ${attempt}`, size: 1 } : null,
  tests: null,
});

/** Makes a step with passes that are looked up as they are asked for. */
function step(
  of: StepRun,
  tasks: StepTask[],
  ended: StepEnd[],
  known: (fingerprint: string) => StepPass | null,
  tools: ReturnType<typeof ids>,
  settled = false,
) {
  const passes = new Map<string, StepPass | null>();
  for (let asked = 0; asked < 50; asked++) {
    const made = stepRun(of, tasks, ended, passes as Passes, tools, { settled });
    if (!made.ask) return made;
    for (const one of made.ask) passes.set(one, known(one));
  }
  throw new Error('it asks for ever');
}
const none = () => null;
/** Attempts of a step are taken by an agent at once. */
const claimed = (tasks: StepTask[]): StepTask[] =>
  tasks.map((one) =>
    one.state === 'ready' && one.attempt
      ? { ...one, state: 'running' as const, attempt: { ...one.attempt, state: 'running' as const } }
      : one,
  );
/** What a step says, whatever the order in which it came upon it. */
const told = ({ tasks, writes }: { tasks: StepTask[]; writes: StepWrites }) => ({
  tasks: tasks.map(({ attempt, ...one }) => ({ ...one, attempt: attempt && { ...attempt, id: '' } })),
  ends: writes.ends,
  results: writes.results,
  tries: writes.tries.map((one) => one.task).sort(),
  changes: writes.tasks.map((one) => `${one.id} ${one.state}`).sort(),
  events: writes.events.map((one) => JSON.stringify(one)).sort(),
});
const stateOf = (tasks: StepTask[]) => Object.fromEntries(tasks.map((one) => [one.name, one.state]));

describe('a step', () => {
  const graph = fc.array(
    fc.record({ needs: fc.array(fc.nat(), { maxLength: 3 }), retry: fc.nat(2), passed: fc.boolean() }),
    { minLength: 1, maxLength: 8 },
  );
  const endings = fc.array(
    fc.record({
      which: fc.nat(),
      how: fc.constantFrom('passed' as const, 'failed' as const, 'lost' as const),
      twice: fc.boolean(),
      more: fc.nat(2),
    }),
    {
      minLength: 30,
      maxLength: 30,
    },
  );

  it('ends every run, once, whatever becomes of its attempts and in which order that is told', () => {
    fc.assert(
      fc.property(graph, endings, (nodes, happen) => {
        const tools = ids();
        const names = nodes.map((_, at) => `t${at}`);
        let tasks = nodes.map((node, at) =>
          task(`t${at}`, at === 0 ? [] : [...new Set(node.needs.map((need) => `t${need % at}`))], node.retry),
        );
        const known = (fingerprint: string): StepPass | null =>
          nodes[Number(/^t(\d+)/.exec(fingerprint)?.[1])]?.passed && fingerprint.endsWith('()')
            ? { attempt: `earlier ${fingerprint}`, number: 1, output: null, tests: null, run: 0 }
            : null;
        let ended = 0;
        let steps = 0;
        let now = run;
        const take = (ends: StepEnd[]): StepWrites => {
          const short = step(now, tasks, ends, known, ids(tools.count()), steps++ > 0);
          const made = step(now, tasks, ends, known, tools);
          // Where all was settled before, only what needs what ends now is looked at, and the same comes of it.
          expect(told(short)).toEqual(told(made));
          const before = new Map(tasks.map((one) => [one.id, one]));
          tasks = claimed(made.tasks);
          for (const one of tasks) {
            // What has ended stays as it is; what begins has all that it needs.
            const was = before.get(one.id) as StepTask;
            if (taskEnded(was.state)) expect(one.state).toBe(was.state);
            if (one.state === 'running')
              for (const need of one.model.needs) expect(['passed', 'reused']).toContain(stateOf(tasks)[need]);
          }
          // Each new attempt is a ready task's, which has one at a time.
          expect(new Set(made.writes.tries.map((one) => one.task)).size).toBe(made.writes.tries.length);
          expect(made.writes.events.filter((one) => one.type === 'run.ended')).toHaveLength(made.writes.ends ? 1 : 0);
          if (made.writes.ends) {
            ended++;
            now = { ...now, state: made.writes.ends.state };
          }
          return made.writes;
        };
        take([]);
        let last: StepEnd[] = [];
        for (const { which, how, twice, more } of happen) {
          const open = tasks.filter((one) => one.state === 'running');
          if (open.length === 0) break;
          const chosen = new Set(
            Array.from(
              { length: more + 1 },
              (_, at) => (open[(which + at) % open.length] as StepTask).attempt?.id as string,
            ),
          );
          const ends = [...chosen].map((attempt) => end(attempt, how));
          take(twice ? [...last, ...ends, ...ends] : ends);
          last = ends;
        }
        // Whatever is left passes.
        for (
          let open = tasks.filter((one) => one.state === 'running');
          open.length;
          open = tasks.filter((one) => one.state === 'running')
        )
          take(open.map((one) => end(one.attempt?.id as string, 'passed')));
        expect(ended).toBe(1);
        expect(tasks.every((one) => taskEnded(one.state))).toBe(true);
        const states = stateOf(tasks);
        for (const one of tasks) {
          const bad = one.model.needs.some((need) => !['passed', 'reused'].includes(states[need] as string));
          expect([one.name, one.state === 'skipped']).toEqual([one.name, bad]);
          // Losses and the retries bound the attempts.
          expect(one.tries).toBeLessThanOrEqual(lostLimit + one.model.retry + 1);
        }
        expect(now.state).toBe(names.some((name) => states[name] === 'failed') ? 'failed' : 'passed');
      }),
      { numRuns: 600 },
    );
  });

  it('takes a pass that is known instead of an attempt, and what needs it goes on at once', () => {
    const tools = ids();
    const pass = { attempt: 'old', number: 2, output: { digest: 'd', size: 3 }, tests: null, run: 7 };
    const made = step(run, [task('a', []), task('b', ['a'])], [], (one) => (one === 'a()' ? pass : null), tools);
    expect(stateOf(made.tasks)).toEqual({ a: 'reused', b: 'ready' });
    expect(made.writes.used).toEqual(['old']);
    expect(made.writes.tries.map((one) => [one.task, one.shares, one.joins])).toEqual([['id-b', 'b(d)', true]]);
    expect(made.writes.events.map((one) => one.type)).toEqual(['task.reused', 'task.ready']);
    // Asked for anew, it is not used.
    const fresh = step({ ...run, fresh: [] }, [task('a', [])], [], () => pass, tools);
    expect(fresh.writes.tries.map((one) => one.joins)).toEqual([false]);
  });

  it('tries a failure again as often as it may, and what its machine did wrong counts for nothing', () => {
    const tools = ids();
    let tasks = claimed(step(run, [task('a', [], 1)], [], none, tools).tasks);
    const attempt = () => tasks[0]?.attempt?.id as string;
    const first = step(run, tasks, [end(attempt(), 'failed', { code: 'setup_failed', data: {} })], none, tools);
    expect([first.writes.results, first.writes.tries.length, first.tasks[0]?.failed]).toEqual([[], 1, 1]);
    tasks = claimed(first.tasks);
    const second = step(run, tasks, [end(attempt(), 'passed')], none, tools);
    expect(second.writes.results.map((one) => one.state)).toEqual(['passed']);
    expect(second.writes.tasks[0]).toMatchObject({ state: 'passed', flaky: true });
    expect(second.writes.ends).toEqual({ state: 'passed', issue: null });
  });

  it('lets a run that is stopped end with what runs, and cuts what waits', () => {
    const tools = ids();
    const begun = step(run, [task('a', []), task('b', []), task('c', ['a'])], [], none, tools).tasks;
    const tasks = begun.map((one) => (one.name === 'a' ? (claimed([one])[0] as StepTask) : one));
    const stopped = { ...run, stoppedBy: 'Mika' };
    const cut = step(stopped, tasks, [], none, tools);
    expect(stateOf(cut.tasks)).toEqual({ a: 'running', b: 'stopped', c: 'stopped' });
    expect([cut.writes.cut, cut.writes.ends]).toEqual([['id-b', 'id-c'], null]);
    const over = step(stopped, cut.tasks, [end(tasks[0]?.attempt?.id as string, 'stopped')], none, tools);
    expect(over.writes.ends).toMatchObject({ state: 'stopped', issue: { code: 'stopped_by' } });
  });

  it('waits for the release that is to be made of it', () => {
    const tools = ids();
    const evidence = { ...task('a', []), evidence: true };
    const tasks = claimed(step({ ...run, unreleased: true }, [evidence, task('b', [])], [], none, tools).tasks);
    const made = step(
      { ...run, unreleased: true },
      tasks,
      [end(tasks[0]?.attempt?.id as string, 'passed')],
      none,
      tools,
    );
    expect([made.writes.releaseFirst, made.writes.ends]).toEqual([true, null]);
  });

  it('ends two tasks of one attempt together', () => {
    const tools = ids();
    const tasks = claimed(step(run, [task('a', []), task('b', [])], [], none, tools).tasks);
    const one = tasks[0] as StepTask;
    const shared = [
      one,
      {
        ...(tasks[1] as StepTask),
        attempt: { id: one.attempt?.id as string, number: 1, state: 'running' as const, shared: true },
      },
    ];
    const made = step(run, shared, [end(one.attempt?.id as string, 'passed')], none, tools);
    expect(stateOf(made.tasks)).toEqual({ a: 'passed', b: 'passed' });
    expect(made.writes.results).toHaveLength(1);
  });
});
