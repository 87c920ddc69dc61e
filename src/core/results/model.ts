/** What test runners say of a task, whatever form they write. */
export interface TestCase {
  name: string;
  group: string;
  state: 'passed' | 'failed' | 'skipped';
  /** Milliseconds, or null when the runner does not say. */
  ms: number | null;
  message: string;
  place: string;
}

export interface TestResults {
  passed: number;
  failed: number;
  skipped: number;
  /** Failing cases first; at most `caseLimit`. */
  cases: TestCase[];
}

export const caseLimit = 5000;
export const messageLimit = 4000;

/** What came out of a file of results; where it can't be read, `detail` says why. */
export type Reading = { results: TestResults; detail: null } | { results: null; detail: string };

/** Counts, and the cases in the order in which people look at them. */
export function totals(cases: readonly TestCase[]): TestResults {
  const count = (state: TestCase['state']) => cases.filter((one) => one.state === state).length;
  const order = { failed: 0, skipped: 1, passed: 2 };
  return {
    passed: count('passed'),
    failed: count('failed'),
    skipped: count('skipped'),
    cases: [...cases].sort((a, b) => order[a.state] - order[b.state]).slice(0, caseLimit),
  };
}
