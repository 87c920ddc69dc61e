/** JUnit XML → test cases. The form is that of many runners; there is no standard, so what is not known is passed over. */
import { SaxesParser } from 'saxes';

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
const messageLimit = 4000;

/** Never throws: what can't be read is said in `detail`. */
export function parseJunit(text: string): { results: TestResults; detail: null } | { results: null; detail: string } {
  const cases: TestCase[] = [];
  const suites: string[] = [];
  let one: TestCase | null = null;
  let inside = '';
  let failure: string | null = null;
  let root: string | null = null;
  const parser = new SaxesParser({ xmlns: false });
  parser.on('error', (error) => {
    failure ??= error.message.slice(0, 200);
  });
  parser.on('opentag', ({ name, attributes }) => {
    const text = (key: string) => String((attributes as Record<string, string>)[key] ?? '');
    root ??= name;
    if (name === 'testsuite') suites.push(text('name'));
    else if (name === 'testcase')
      one = {
        name: text('name'),
        group: groupOf(text('classname'), suites),
        state: 'passed',
        ms: milliseconds(text('time')),
        message: '',
        place: placeOf(text('file'), text('line')),
      };
    else if (one && (name === 'failure' || name === 'error')) {
      one.state = 'failed';
      one.message ||= text('message');
      inside = '';
    } else if (one && name === 'skipped') one.state = 'skipped';
  });
  parser.on('text', (chunk) => {
    if (one && inside.length < messageLimit) inside += chunk;
  });
  parser.on('cdata', (chunk) => {
    if (one && inside.length < messageLimit) inside += chunk;
  });
  parser.on('closetag', ({ name }) => {
    if (name === 'testsuite') suites.pop();
    else if (one && (name === 'failure' || name === 'error')) {
      // Line ends are lost in an attribute, not in the text.
      const detail = inside.trim();
      const flat = (words: string) => words.replace(/\s+/g, '');
      if (detail) one.message = !one.message || flat(detail).includes(flat(one.message)) ? detail : `${one.message}\n${detail}`;
      one.place ||= placeIn(detail);
      one.message = one.message.slice(0, messageLimit);
    } else if (name === 'testcase' && one) {
      cases.push(one);
      one = null;
    }
  });
  try {
    parser.write(text.replace(/^\uFEFF/, '')).close();
  } catch (error) {
    failure ??= (error as Error).message.slice(0, 200);
  }
  if (failure !== null) return { results: null, detail: failure };
  if (root !== 'testsuite' && root !== 'testsuites') return { results: null, detail: `it begins with <${root ?? 'nothing'}>, not with <testsuites>` };
  const count = (state: TestCase['state']) => cases.filter((item) => item.state === state).length;
  const order = { failed: 0, skipped: 1, passed: 2 };
  const sorted = [...cases].sort((a, b) => order[a.state] - order[b.state]).slice(0, caseLimit);
  return { results: { passed: count('passed'), failed: count('failed'), skipped: count('skipped'), cases: sorted }, detail: null };
}

function milliseconds(text: string): number | null {
  const seconds = Number.parseFloat(text.replace(/,/g, ''));
  return Number.isFinite(seconds) ? Math.round(seconds * 1000) : null;
}

/** Some runners write the same word as the class of every case; the suite tells more then. */
const groupOf = (name: string, suites: readonly string[]): string => (name && name !== 'test' ? name : (suites.filter(Boolean).at(-1) ?? ''));

/** The first place below the project's folder that a stack names. */
const placeIn = (text: string): string => {
  const found = /(?:file:\/\/)?\/project\/([^\s:()]+):(\d+)/.exec(text);
  return found ? `${found[1]}:${found[2]}` : '';
};

const placeOf = (file: string, line: string) => (file && line ? `${file}:${line}` : file);
