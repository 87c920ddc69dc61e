/**
 * TAP (Test Anything Protocol, versions 13 and 14) → test cases. A test point that sums up subtests is their group, and a case of its
 * own only when it failed and none of them did. What is planned and did not run has failed.
 */
import { parse } from 'yaml';
import { messageLimit, type Reading, type TestCase, totals } from './model.js';

const version = /^TAP version 1[34]\s*$/;
const planned = /^1\.\.(\d{1,7})(?:\s*#\s*(.*))?$/;
const point = /^(not )?ok\b(?:\s+\d{1,9})?(?:\s*-)?\s*(.*)$/;
const bail = /^Bail out!\s*(.*)$/;
/** Lines of one block of diagnostics that are read. */
const blockLimit = 400;
const lineLimit = 10_000;

/** Whether the first line that says anything is one of TAP's. */
export function isTap(text: string): boolean {
  for (const line of text.slice(0, 65_536).split(/\r?\n/, 200)) {
    if (line.trim() === '' || line.startsWith('#') || line.startsWith('pragma')) continue;
    return version.test(line) || planned.test(line) || /^(not )?ok\b/.test(line);
  }
  return false;
}

/** One level of tests: what was seen since the last point of the level above. */
interface Level {
  cases: TestCase[];
  points: number;
  plan: number | null;
  /** The plan's reason where it plans none. */
  skipped: string | null;
}

const level = (): Level => ({ cases: [], points: 0, plan: null, skipped: null });
const failed = (name: string, message: string): TestCase => ({
  name,
  group: '',
  state: 'failed',
  ms: null,
  message,
  place: '',
});

/** Never throws. A text without any test is no result. */
export function parseTap(text: string): Reading {
  const levels: Level[] = [level()];
  /** The case that a block of diagnostics belongs to. */
  let last: TestCase | null = null;
  let block: { indent: string; lines: string[] } | null = null;
  let ended: string | null = null;

  /** Levels deeper than `depth` end: without a point above that sums them up they count as they are. */
  const close = (depth: number): void => {
    while (levels.length > depth + 1) {
      const inner = levels.pop() as Level;
      (levels.at(-1) as Level).cases.push(...finish(inner));
    }
  };

  for (const whole of text.split(/\r?\n/)) {
    const raw = whole.slice(0, lineLimit);
    if (block) {
      if (raw.startsWith(block.indent) && raw.trim() === '...') {
        if (last) diagnose(last, block.lines);
        block = null;
      } else if (block.lines.length < blockLimit) block.lines.push(raw.slice(block.indent.length));
      continue;
    }
    const opening = /^(\s+)---\s*$/.exec(raw);
    if (opening && last) {
      block = { indent: opening[1] as string, lines: [] };
      continue;
    }
    const indent = /^ */.exec(raw)?.[0].length ?? 0;
    const depth = Math.min(Math.floor(indent / 4), levels.length, 30);
    const line = raw.slice(indent);
    const over = bail.exec(line);
    if (over) {
      ended = over[1] as string;
      break;
    }
    const plan = planned.exec(line);
    const one = point.exec(line);
    if (!plan && !one) continue;
    if (depth >= levels.length) levels.push(level());
    const here = levels[depth] as Level;
    if (plan) {
      here.plan = Number(plan[1]);
      if (here.plan === 0) here.skipped = plan[2] ?? '';
      continue;
    }
    close(depth + 1);
    const inner = levels.length > depth + 1 ? finish(levels.pop() as Level) : [];
    here.points++;
    last = caseOf((one as RegExpExecArray)[1] !== undefined, (one as RegExpExecArray)[2] ?? '');
    const { name, state } = last;
    for (const child of inner) child.group = child.group ? `${name} › ${child.group}` : name;
    here.cases.push(...inner);
    if (inner.length === 0 || (state === 'failed' && !inner.some((child) => child.state === 'failed')))
      here.cases.push(last);
  }
  close(0);
  const outer = levels[0] as Level;
  const cases = ended === null ? finish(outer) : [...outer.cases, failed('Bail out!', ended.slice(0, messageLimit))];
  if (cases.length === 0 && outer.plan === null) return { results: null, detail: 'no test is in it' };
  return { results: totals(cases), detail: null };
}

/** The cases of a level, and what was planned and is not there. */
function finish({ cases, points, plan, skipped }: Level): TestCase[] {
  if (plan === null || plan === points) return cases;
  if (plan === 0 && skipped !== null && points === 0) return cases;
  return [...cases, failed('plan', `${plan} tests were planned, ${points} ran.`)];
}

function caseOf(not: boolean, rest: string): TestCase {
  const [, words = '', directive = '', reason = ''] =
    /^(.*?)(?:(?<!\\)\s#\s*(skip\S*|todo)\b\s*(.*))?$/i.exec(` ${rest}`) ?? [];
  const name = words.trim().replace(/\\([#\\])/g, '$1');
  const set = directive.toLowerCase();
  return {
    name: name || 'unnamed',
    group: '',
    // What is still to be done may fail.
    state: set.startsWith('skip') || (set === 'todo' && not) ? 'skipped' : not ? 'failed' : 'passed',
    ms: null,
    message: set ? reason.trim().slice(0, messageLimit) : '',
    place: '',
  };
}

/** The block below a point is YAML; its keys are not part of the protocol, so those that runners use are looked for. */
function diagnose(one: TestCase, lines: readonly string[]): void {
  let said: unknown = null;
  try {
    said = parse(lines.join('\n'), { schema: 'failsafe', logLevel: 'silent', maxAliasCount: 0 });
  } catch {
    // Shown as it stands.
  }
  const fields =
    said !== null && typeof said === 'object' && !Array.isArray(said) ? (said as Record<string, unknown>) : {};
  const text = (...names: string[]): string =>
    names.map((name) => fields[name]).find((value): value is string => typeof value === 'string' && value !== '') ?? '';
  const ms = Number.parseFloat(text('duration_ms', 'time_ms'));
  if (Number.isFinite(ms)) one.ms = Math.round(ms);
  if (one.state !== 'failed') return;
  const [message, stack] = [text('message', 'error'), text('stack')];
  one.message = (Object.keys(fields).length ? [message, stack].filter(Boolean).join('\n') : lines.join('\n'))
    .trim()
    .slice(0, messageLimit);
  const at = fields.at;
  const place =
    at !== null && typeof at === 'object'
      ? `${String((at as Record<string, unknown>).file ?? '')}:${String((at as Record<string, unknown>).line ?? '')}`
      : text('location', 'at') || /\/project\/[^\s:()]+:\d+/.exec(stack)?.[0] || '';
  one.place = /^(?:file:\/\/)?(?:\/project\/)?([^\s:]+:\d+)/.exec(place)?.[1] ?? '';
}
