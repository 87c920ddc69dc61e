/** JUnit XML → test cases. The form is that of many runners; there is no standard, so what is not known is passed over. */
import { SaxesParser } from 'saxes';
import { messageLimit, type Reading, type TestCase, totals } from './model.js';

/** Never throws: what can't be read is said in `detail`. */
export function parseJunit(text: string): Reading {
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
        group: groupOf(text('classname'), text('name'), suites),
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
      if (detail)
        one.message = !one.message || flat(detail).includes(flat(one.message)) ? detail : `${one.message}\n${detail}`;
      if (!/:\d+$/.test(one.place)) one.place = placeIn(detail, one.group) || one.place;
      one.message = one.message.slice(0, messageLimit);
    } else if (name === 'testcase' && one) {
      cases.push(one);
      one = null;
    }
  });
  try {
    parser.write(readable(text)).close();
  } catch (error) {
    failure ??= (error as Error).message.slice(0, 200);
  }
  if (failure !== null) return { results: null, detail: failure };
  if (root !== 'testsuite' && root !== 'testsuites')
    return { results: null, detail: `it begins with <${root ?? 'nothing'}>, not with <testsuites>` };
  return { results: totals(cases), detail: null };
}

function milliseconds(text: string): number | null {
  const seconds = Number.parseFloat(text.replace(/,/g, ''));
  return Number.isFinite(seconds) ? Math.round(seconds * 1000) : null;
}

/**
 * Runners copy what a program prints into their files, the terminal's colours and other characters included that XML 1.0 (2.2) does
 * not allow, bare or as references; they are taken out.
 */
function readable(text: string): string {
  return (
    text
      .replace(/^\uFEFF/, '')
      // biome-ignore lint/suspicious/noControlCharactersInRegex: these are the terminal's own
      .replace(/(?:\u001b|&#(?:27|x1[bB]);)\[[0-9;?]*[A-Za-z]/g, '')
      .replace(
        /&#(?:x([0-9a-fA-F]{1,6})|([0-9]{1,7}));/g,
        (all, hex: string | undefined, decimal: string | undefined) =>
          allowed(hex ? Number.parseInt(hex, 16) : Number(decimal)) ? all : '',
      )
      // biome-ignore lint/suspicious/noControlCharactersInRegex: these are what is taken out
      .replace(/[\u0000-\u0008\u000b\u000c\u000e-\u001f\ufffe\uffff]/g, '')
  );
}

const allowed = (code: number): boolean =>
  code === 9 ||
  code === 10 ||
  code === 13 ||
  (code >= 0x20 && code <= 0xd7ff) ||
  (code >= 0xe000 && code <= 0xfffd) ||
  (code >= 0x10000 && code <= 0x10ffff);

/** Some runners write the same word as the class of every case, or the case's own name; the suite tells more then. */
const groupOf = (name: string, own: string, suites: readonly string[]): string =>
  name && name !== 'test' && name !== own ? name : (suites.filter(Boolean).at(-1) ?? '');

/** The first place of the project that a stack names: by its whole path, by the case's class (Java), or by a path from the folder. */
function placeIn(text: string, group: string): string {
  const whole = /(?:file:\/\/)?\/project\/([^\s:()]+):(\d+)/.exec(text);
  if (whole) return `${whole[1]}:${whole[2]}`;
  const mine = text
    .split('\n')
    .find((line) => line.trim().startsWith(`at ${group}`) && /\(\w+\.(?:java|kt|scala|groovy):\d+\)/.test(line));
  const java = mine && /\((\w+\.\w+:\d+)\)/.exec(mine);
  if (java) return java[1] as string;
  for (const found of text.matchAll(/(?:^|[\s(])((?:[\w@-][\w.@-]*\/)*[\w@-][\w.@-]*\.[A-Za-z]\w{0,5}):(\d+)/gm))
    if (!/node_modules|\.(?:java|kt|scala|groovy)$/.test(found[1] as string)) return `${found[1]}:${found[2]}`;
  return '';
}

const placeOf = (file: string, line: string) => (file && line ? `${file}:${line}` : file).replace(/^\/project\//, '');
