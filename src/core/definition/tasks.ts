/** The tasks of a definition, and what must hold between them and the release. */
import { parseDuration } from '../durations.js';
import { hintFor } from '../nearest.js';
import { at, entriesAt, listAt, type Report, textAt, textsAt } from './access.js';
import {
  defaults,
  evidenceTasks,
  type ReleasePlan,
  resourceFields,
  setReference,
  type TaskPlan,
  taskReferences,
  type TaskVariable,
} from './model.js';
import type { Read } from './read.js';

const withoutSlash = (path: string): string => path.replace(/\/$/, '');

export function readTask(name: string, value: Read, report: Report): TaskPlan {
  const timeout = textAt(value, 'timeout');
  const shards = textAt(value, 'shards');
  const resources = Object.fromEntries(
    entriesAt(value, 'resources').map(([resource]) => [resource, 'postgres' as const]),
  );
  const each = Object.fromEntries(
    entriesAt(value, 'each').map(([variable, one]) => [
      variable,
      'list' in one.value ? one.value.list.flatMap((item) => ('text' in item ? [item.text] : [])) : [],
    ]),
  );
  for (const [variable, one] of entriesAt(value, 'each')) {
    const values = each[variable] ?? [];
    const twice = values.find((text, index) => values.indexOf(text) !== index);
    if (twice !== undefined) report('repeated_value', one.value.span, { value: twice });
    if (at(at(value, 'variables')?.value, variable))
      report('one_of_keys', one.key, { place: variable, found: 'both', keys: '`each` and `variables`' });
  }
  const makes = (textsAt(value, 'makes') ?? []).map(withoutSlash);
  const cache = (textsAt(value, 'cache') ?? []).map(withoutSlash);
  const inside = (a: string, b: string) => a === b || a.startsWith(`${b}/`) || b.startsWith(`${a}/`);
  for (const one of listAt(value, 'cache') ?? []) {
    const made = makes.find((path) => inside(path, withoutSlash(one.text)));
    if (made) report('cache_and_makes', one.span, { path: withoutSlash(one.text), made });
  }
  return {
    name,
    reads: textsAt(value, 'reads'),
    needs: textsAt(value, 'needs') ?? [],
    run: textsAt(value, 'run') ?? [],
    makes,
    network: textAt(value, 'network') === 'true',
    timeout: (timeout && parseDuration(timeout)) || defaults.timeoutMs,
    variables: Object.fromEntries(
      entriesAt(value, 'variables').map(([key, one]) => [key, readVariable(one.value, resources, report)]),
    ),
    results: textAt(value, 'results'),
    coverage: textAt(value, 'coverage'),
    cache,
    shards: shards === null ? null : Number(shards),
    each,
    retry: Number(textAt(value, 'retry') ?? 0),
    resources,
    reuse: textAt(value, 'reuse') !== 'false',
    for: textsAt(value, 'for'),
  };
}

function readVariable(value: Read, resources: Record<string, 'postgres'>, report: Report): TaskVariable {
  if ('text' in value) return value.text;
  const from = at(value, 'from')?.value;
  const reference = from && 'text' in from ? from.text : '';
  const known = [
    ...taskReferences,
    ...Object.keys(resources).flatMap((name) => resourceFields.map((field) => `${name}.${field}`)),
  ];
  if (from && !known.includes(reference) && !setReference.test(reference))
    report('unknown_reference', from.span, { name: reference, hint: hintFor(reference, known) });
  return { from: reference, append: textAt(value, 'append') ?? '' };
}

/** Tasks that some commits leave out can be no evidence, and at most so many come out of `each` and `shards`. */
export function reviewTasks(
  root: Read,
  tasks: Record<string, TaskPlan>,
  release: ReleasePlan | null,
  report: Report,
): void {
  const evidence = new Set(evidenceTasks({ tasks, release }));
  for (const [name, { key, value }] of entriesAt(root, 'tasks')) {
    const plan = tasks[name] as TaskPlan;
    const pieces = Object.values(plan.each).reduce((product, values) => product * values.length, plan.shards ?? 1);
    if (pieces > mostPieces) report('too_many_pieces', key, { task: name, count: pieces, limit: mostPieces });
    if (plan.for !== null && evidence.has(name))
      report('evidence_left_out', at(value, 'for')?.key ?? key, { task: name, key: 'for' });
  }
}

/** Tasks that one declared task may become. */
export const mostPieces = 200;
