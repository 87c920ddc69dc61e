/** Failing tests against the past: which are new, which are known, which come and go. */
import type { TestCase, TestResults } from './model.js';

export type Standing = 'new' | 'known' | 'flaky';

export interface JudgedCase extends TestCase {
  /** new: it passed, or was not there, the last time; known: it failed the last time too; flaky: it has passed and failed in turn. */
  standing: Standing;
  /** In how many of the past results it failed, and in how many it was. */
  failedBefore: number;
  seenBefore: number;
}

const keyOf = (one: Pick<TestCase, 'group' | 'name'>): string => `${one.group}\n${one.name}`;

/** Failing cases of `now`; `past` is the newest first. Three changes between passing and failing make a test flaky. */
export function judgeCases(now: TestResults, past: readonly (TestResults | null)[]): JudgedCase[] {
  const histories = new Map<string, ('passed' | 'failed')[]>();
  for (const results of past) {
    for (const one of results?.cases ?? []) {
      if (one.state === 'skipped') continue;
      const list = histories.get(keyOf(one)) ?? [];
      list.push(one.state);
      histories.set(keyOf(one), list);
    }
  }
  return now.cases
    .filter((one) => one.state === 'failed')
    .map((one) => {
      const history = histories.get(keyOf(one)) ?? [];
      const changes =
        history.filter((state, at) => at > 0 && state !== history[at - 1]).length + (history[0] === 'passed' ? 1 : 0);
      const standing: Standing = changes >= 3 ? 'flaky' : history[0] === 'failed' ? 'known' : 'new';
      return {
        ...one,
        standing,
        failedBefore: history.filter((state) => state === 'failed').length,
        seenBefore: history.length,
      };
    });
}
