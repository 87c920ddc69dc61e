/** Text → definition. Every mistake is reported in one pass with line and column; a definition comes out only when there is none. */
import { type ErrorCode, issue, type IssueData } from '../errors/errors.js';
import { checkedName } from '../domains/names.js';
import { projectPageNames } from '../names.js';
import { hintFor } from '../nearest.js';
import { parseDuration } from '../durations.js';
import type { UseKind } from '../states.js';
import {
  defaultFreshMs,
  defaultIdle,
  type Definition,
  type EnvironmentPlan,
  type IdlePlan,
  type Origin,
  pullRequests,
  type ReleasePlan,
} from './model.js';
import { at, entriesAt, listAt, type Report, textAt, textsAt } from './access.js';
import { readRelease, readSize } from './release.js';
import { readCutover, readRules } from './rules.js';
import { readTask, reviewTasks } from './tasks.js';
import { type PlacedIssue, type Read, readText } from './read.js';
import { file } from './shapes.js';
import { toolNames } from './tools.js';

/** An issue with its place: `line` and `column` count from 1, `endLine` and `endColumn` stand behind the last character. */
export interface DefinitionIssue {
  code: ErrorCode;
  data: IssueData;
  severity: 'error' | 'warning';
  line: number;
  column: number;
  endLine: number;
  endColumn: number;
}

export interface Parsed {
  definition: Definition | null;
  issues: DefinitionIssue[];
}

/** Nobody reads more of them at once. */
const mostIssues = 500;

/** Bytes that a definition may have. */
export const definitionLimit = 256 * 1024;

export function parseDefinition(source: string | Uint8Array): Parsed {
  const first = { line: 1, column: 1, endLine: 1, endColumn: 1, severity: 'error' as const };
  if (Buffer.byteLength(source) > definitionLimit)
    return {
      definition: null,
      issues: [{ ...issue('definition_too_large', { path: 'tsunagi.yaml', limit: '256 KiB' }), ...first }],
    };
  let text: string;
  try {
    text = typeof source === 'string' ? source : new TextDecoder('utf-8', { fatal: true }).decode(source);
  } catch {
    return { definition: null, issues: [{ ...issue('encoding'), ...first }] };
  }
  const { root, issues } = readText(text, file);
  const report: Report = (code, span, data = {}) => issues.push({ ...issue(code, data), span, severity: 'error' });
  const definition = root ? build(root, report) : null;
  const broken = issues.some((one) => one.severity === 'error');
  return { definition: broken ? null : definition, issues: place(text, issues).slice(0, mostIssues) };
}

/** Line and column for each issue, computed once, in the order of the text. */
function place(text: string, issues: PlacedIssue[]): DefinitionIssue[] {
  const starts = [0];
  for (let at = text.indexOf('\n'); at >= 0; at = text.indexOf('\n', at + 1)) starts.push(at + 1);
  const where = (offset: number): [number, number] => {
    let low = 0;
    let high = starts.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if ((starts[middle] as number) <= offset) low = middle;
      else high = middle - 1;
    }
    return [low + 1, offset - (starts[low] as number) + 1];
  };
  return [...issues]
    .sort((a, b) => a.span[0] - b.span[0])
    .map(({ span, code, data, severity }) => {
      const [line, column] = where(span[0]);
      const [endLine, endColumn] = where(span[1]);
      return { code, data, severity, line, column, endLine, endColumn };
    });
}

function build(root: Read, report: Report): Definition {
  const tasks = Object.fromEntries(
    entriesAt(root, 'tasks').map(([name, { value }]) => [name, readTask(name, value, report)]),
  );
  const names = Object.keys(tasks);
  const checkNeeds = (value: Read) => {
    for (const need of listAt(value, 'needs') ?? [])
      if (!Object.hasOwn(tasks, need.text))
        report('unknown_task', need.span, { name: need.text, hint: hintFor(need.text, names) });
  };
  for (const [, { value }] of entriesAt(root, 'tasks')) checkNeeds(value);
  circles(tasks, (circle) =>
    report('needs_in_circle', at(at(root, 'tasks')?.value, circle[0] as string)?.key ?? [0, 1], {
      circle: [...circle, circle[0]].join(' → '),
    }),
  );

  const releaseValue = at(root, 'release')?.value;
  if (releaseValue) checkNeeds(releaseValue);
  const release = releaseValue ? readRelease(releaseValue, checkNeeds, report) : null;
  reviewTasks(root, tasks, release, report);
  for (const [tool, { key }] of entriesAt(root, 'tools'))
    if (!(toolNames as readonly string[]).includes(tool))
      report('unknown_tool', key, { name: tool, hint: hintFor(tool, toolNames) });
  const tools = Object.fromEntries(
    entriesAt(root, 'tools').map(([tool, { value }]) => [tool, 'text' in value ? value.text : '']),
  );
  return { version: 6, tools, tasks, release, environments: readEnvironments(root, release, report) };
}

/** Sizes that an environment says otherwise; a release that has no such part yet may have it in another commit, where there is none. */
function readSizes(environment: Read, release: ReleasePlan | null, report: Report): EnvironmentPlan['parts'] {
  return Object.fromEntries(
    entriesAt(environment, 'parts').map(([name, { key, value }]) => {
      const part = release?.parts[name];
      if (release && !part) report('unknown_part', key, { name, hint: hintFor(name, Object.keys(release.parts)) });
      if (part?.kind === 'site' || part?.kind === 'job')
        report('key_not_for', key, { key: name, kind: `sizes: it is a ${part.kind}` });
      return [name, readSize(value, report)];
    }),
  );
}

function readEnvironments(root: Read, release: ReleasePlan | null, report: Report): Record<string, EnvironmentPlan> {
  const given = entriesAt(root, 'environments');
  const names = given.map(([name]) => name);
  const plans: Record<string, EnvironmentPlan> = {};
  for (const [name, { key, value }] of given) {
    if (projectPageNames.has(name)) report('environment_unnamable', key, { name });
    const verify = at(value, 'verify')?.value;
    const after = at(value, 'after');
    const ways = ['for', 'branch', 'after'].filter((one) => at(value, one));
    if (ways.length > 1)
      report('one_of_keys', key, { place: name, found: 'several', keys: '`for`, `branch` and `after`' });
    for (const one of ['promotion', 'approvals'])
      if (at(value, one) && !after)
        report('key_not_for', at(value, one)?.key ?? key, { key: one, kind: 'an environment without `after`' });
    for (const one of ['drafts', 'idle', 'data', 'access'])
      if (at(value, one) && !at(value, 'for'))
        report('key_not_for', at(value, one)?.key ?? key, { key: one, kind: 'an environment without `for`' });
    for (const one of ['scrub', 'frozen', 'warm', 'cutover', 'guard', 'mirror'])
      if (at(value, one) && at(value, 'for'))
        report('key_not_for', at(value, one)?.key ?? key, { key: one, kind: 'reviews' });
    const plan: EnvironmentPlan = {
      name,
      for: textAt(value, 'for') === pullRequests ? pullRequests : null,
      ...(textAt(value, 'drafts') === 'false' ? { drafts: false as const } : {}),
      ...readCommand(value, 'seed', release, report),
      ...readCommand(value, 'scrub', release, report),
      ...(at(value, 'data') && at(value, 'for') ? readData(value, given, release, report) : {}),
      ...readAccess(value),
      ...(at(value, 'pictures') ? { pictures: [...new Set(textsAt(value, 'pictures') ?? [])] } : {}),
      ...(at(value, 'idle') && at(value, 'for') ? { idle: readIdle(value) } : {}),
      branch: textAt(value, 'branch'),
      after: textAt(value, 'after') ?? (after ? textAt(after.value, 'environment') : null),
      promotion: textAt(value, 'promotion') === 'automatic' ? 'automatic' : 'manual',
      ...readRules(value),
      ...readCutover(value, report, release),
      verify: verify ? { reads: textsAt(verify, 'reads'), run: textAt(verify, 'run') ?? '' } : null,
      parts: readSizes(value, release, report),
      addresses: readNames(name, value, plans, report),
    };
    if (plan.after !== null && after) {
      if (!names.includes(plan.after))
        report('unknown_environment', after.value.span, { name: plan.after, hint: hintFor(plan.after, names) });
      else if (at(given.find(([one]) => one === plan.after)?.[1].value, 'for'))
        report('key_not_for', after.value.span, { key: 'after', kind: 'an environment of pull requests' });
    }
    plans[name] = plan;
  }
  const links = Object.fromEntries(
    Object.values(plans).map((plan) => [plan.name, { needs: plan.after && plans[plan.after] ? [plan.after] : [] }]),
  );
  circles(links, (circle) =>
    report('needs_in_circle', at(at(root, 'environments')?.value, circle[0] as string)?.key ?? [0, 1], {
      circle: [...circle, circle[0]].join(' → '),
    }),
  );
  return plans;
}

/** A command with the files of a part. A release that has no such part yet may have it in another commit, where there is none at all. */
function readCommand<Key extends 'seed' | 'scrub'>(
  environment: Read,
  key: Key,
  release: ReleasePlan | null,
  report: Report,
): Pick<EnvironmentPlan, Key> {
  const command = at(environment, key)?.value;
  if (!command) return {} as Pick<EnvironmentPlan, Key>;
  const part = textAt(command, 'part') ?? '';
  const span = at(command, 'part')?.value.span ?? command.span;
  const declared = Object.keys(release?.parts ?? {});
  if (release && !declared.includes(part)) report('unknown_part', span, { name: part, hint: hintFor(part, declared) });
  if (release?.parts[part]?.kind === 'site') report('key_not_for', span, { key, kind: 'a site' });
  return { [key]: { part, run: textAt(command, 'run') ?? '' } } as Pick<EnvironmentPlan, Key>;
}

/** What databases and volumes begin as: copies of environments that stay, and say what makes their data fit for others. */
function readData(
  environment: Read,
  others: readonly [string, { value: Read }][],
  release: ReleasePlan | null,
  report: Report,
): Pick<EnvironmentPlan, 'data'> {
  const resources = Object.keys(release?.resources ?? {});
  const names = others.map(([name]) => name);
  const data = entriesAt(environment, 'data').flatMap(([name, { key, value }]): [string, Origin][] => {
    if (release && !resources.includes(name)) report('unknown_resource', key, { name, hint: hintFor(name, resources) });
    const copy = textAt(value, 'copy');
    if (copy === null) return [];
    const span = at(value, 'copy')?.value.span ?? value.span;
    const source = others.find(([one]) => one === copy)?.[1].value;
    if (!source) report('unknown_environment', span, { name: copy, hint: hintFor(copy, names) });
    else if (at(source, 'for')) report('copy_of_review', span, { name: copy });
    else if (!at(source, 'scrub')) report('copy_without_scrub', span, { name: copy });
    return [[name, { copy, freshMs: parseDuration(textAt(value, 'fresh') ?? '') ?? defaultFreshMs }]];
  });
  return data.length ? { data: Object.fromEntries(data) } : {};
}

function readAccess(environment: Read): Pick<EnvironmentPlan, 'access'> {
  const given = at(environment, 'for') ? textAt(environment, 'access') : null;
  return given === 'signed-in' || given === 'link' ? { access: given } : {};
}

function readIdle(environment: Read): IdlePlan {
  const idle = at(environment, 'idle')?.value;
  const text = (name: string) => (idle ? textAt(idle, name) : null);
  const time = (name: string, otherwise: number | null): number | null => {
    const given = text(name);
    return given === null ? otherwise : given === 'never' ? null : (parseDuration(given) ?? otherwise);
  };
  const except = idle && at(idle, 'except')?.value;
  const headers = except ? entriesAt(except, 'headers') : [];
  return {
    sleep: time('sleep', defaultIdle.sleep),
    end: time('end', null) ?? defaultIdle.end,
    close: time('close', defaultIdle.close),
    awakeLimit: text('awake_limit') === null ? null : Number(text('awake_limit')),
    count: ((idle && textsAt(idle, 'count')) as UseKind[] | null | undefined) ?? defaultIdle.count,
    except: {
      paths: (except && textsAt(except, 'paths')) ?? [],
      headers: Object.fromEntries(
        headers.map(([name]) => [
          name.toLowerCase(),
          textsAt(at(except as Read, 'headers')?.value as Read, name) ?? [],
        ]),
      ),
    },
  };
}

/** Names of its own; one leads to one environment, and reviews have none: they come and go. */
function readNames(
  environment: string,
  value: Read,
  others: Record<string, EnvironmentPlan>,
  report: Report,
): string[] {
  const given = at(value, 'addresses');
  const names = (textsAt(value, 'addresses') ?? []).flatMap((one) => {
    try {
      return [checkedName(one, [])];
    } catch {
      return [];
    }
  });
  if (given && at(value, 'for')) report('key_not_for', given.key, { key: 'addresses', kind: 'reviews' });
  for (const name of new Set(names)) {
    const other = Object.values(others).find((one) => one.addresses.includes(name))?.name;
    const twice = names.filter((one) => one === name).length > 1;
    if (given && (other || twice))
      report('address_twice', given.value.span, { first: other ?? environment, second: environment, name });
  }
  return [...new Set(names)];
}

/** Reports each circle of needs once, beginning with the name that stands first. */
function circles(nodes: Record<string, { needs: string[] }>, found: (circle: string[]) => void): void {
  const done = new Set<string>();
  const visit = (name: string, path: string[]): void => {
    const start = path.indexOf(name);
    if (start >= 0) found(path.slice(start));
    if (start >= 0 || done.has(name) || !nodes[name]) return;
    for (const need of nodes[name].needs) visit(need, [...path, name]);
    done.add(name);
  };
  for (const name of Object.keys(nodes)) visit(name, []);
}
