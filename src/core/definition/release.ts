/** The release of a definition: parts, resources, variables, prepare, and what must hold between them. */
import { type DayTime, leastEveryMs, parseDayTime, type Schedule } from '../calendar/schedule.js';
import { parseDuration } from '../durations.js';
import { parseSize } from '../sizes.js';
import { hintFor } from '../nearest.js';
import type { PartKind, ResourceKind } from '../states.js';
import { at, entriesAt, listAt, type Report, textAt, textsAt } from './access.js';
import {
  type Auto,
  defaultStartMs,
  defaults,
  fieldsOf,
  type Part,
  references,
  type ReleasePlan,
  type ResourcePlan,
  setReference,
  type VariablePlan,
} from './model.js';
import type { Read, Span } from './read.js';

export function readRelease(value: Read, checkNeeds: (value: Read) => void, report: Report): ReleasePlan {
  const parts: Record<string, Part> = {};
  const addresses = new Map<string, string>();
  for (const [name, one] of entriesAt(value, 'parts')) {
    checkNeeds(one.value);
    const part = readPart(name, one, report);
    if (!part) continue;
    parts[name] = part;
    if (part.kind === 'worker' || part.kind === 'job') continue;
    const other = addresses.get(part.at);
    if (other)
      report('same_address', at(one.value, 'at')?.value.span ?? one.key, { first: other, second: name, at: part.at });
    addresses.set(part.at, name);
  }
  const resources = readResources(value, parts, report);
  const variables = Object.fromEntries(
    entriesAt(value, 'variables').map(([name, one]) => [name, readVariable(name, one, resources, report)]),
  );
  for (const [, one] of entriesAt(value, 'parts')) {
    checkSettings(one.value, variables, report);
    checkVolumes(one.value, resources, report);
  }
  const migrationsValue = at(value, 'migrations')?.value;
  const prepareValue = at(value, 'prepare')?.value;
  const prepare = prepareValue
    ? {
        part: textAt(prepareValue, 'part') ?? '',
        run: textAt(prepareValue, 'run') ?? '',
        again: textAt(prepareValue, 'again') === 'safe',
        stops: textAt(prepareValue, 'old') === 'stopped',
        ...(textAt(prepareValue, 'timeout')
          ? { timeoutMs: parseDuration(textAt(prepareValue, 'timeout') ?? '') ?? defaults.timeoutMs }
          : {}),
      }
    : null;
  if (prepareValue && prepare && prepare.part) {
    const declared = entriesAt(value, 'parts').map(([name]) => name);
    const span = at(prepareValue, 'part')?.value.span ?? prepareValue.span;
    if (!declared.includes(prepare.part))
      report('unknown_part', span, { name: prepare.part, hint: hintFor(prepare.part, declared) });
    else if (parts[prepare.part]?.kind === 'site') report('key_not_for', span, { key: 'prepare', kind: 'a site' });
  }
  return {
    needs: textsAt(value, 'needs') ?? [],
    parts,
    resources,
    variables,
    prepare,
    migrations: migrationsValue ? (textsAt(migrationsValue, 'files') ?? []) : null,
    ...(migrationsValue && textsAt(migrationsValue, 'one_way')
      ? { oneWay: textsAt(migrationsValue, 'one_way') ?? [] }
      : {}),
  };
}

/** Keys that belong to some kinds alone. */
const kindsOf: Record<string, readonly ResourceKind[]> = { extensions: ['postgres'] };

function readResources(release: Read, parts: Record<string, Part>, report: Report): Record<string, ResourcePlan> {
  return Object.fromEntries(
    entriesAt(release, 'resources').map(([name, { key, value }]): [string, ResourcePlan] => {
      // Both begin references.
      if (Object.hasOwn(parts, name)) report('name_twice', key, { name, first: 'a part', second: 'a resource' });
      const kind = (textAt(value, 'kind') ?? 'postgres') as ResourceKind;
      for (const [word, kinds] of Object.entries(kindsOf)) {
        const given = at(value, word);
        if (given && !kinds.includes(kind)) report('key_not_for', given.key, { key: word, kind: `a ${kind}` });
      }
      const size = textAt(value, 'size');
      if (kind === 'volume' && !at(value, 'size'))
        report('required_key', key, { key: 'size', place: `release.resources.${name}`, about: 'a volume has one' });
      const backup = at(value, 'backup')?.value;
      const length = (word: string) => parseDuration((backup && textAt(backup, word)) ?? '');
      return [
        name,
        {
          name,
          kind,
          extensions: textsAt(value, 'extensions') ?? [],
          ...(kind === 'volume' || size !== null ? { size: parseSize(size ?? '') ?? 0 } : {}),
          backup: backup
            ? {
                everyMs: length('every') ?? 0,
                keep: Number(textAt(backup, 'keep') ?? defaults.backups),
                tryMs: length('try'),
              }
            : null,
        },
      ];
    }),
  );
}

const ofJobs = ['run', 'every', 'timeout'];
const ofSites = ['fallback', 'missing', 'maintenance', 'settings', 'headers', 'redirects', 'immutable'];

/** Which keys belong to which kind of part. */
const keysOf: Record<PartKind, { must: string[]; never: string[] }> = {
  site: {
    must: ['root'],
    never: [
      'start',
      'ready',
      'start_within',
      'instances',
      'memory',
      'cpu',
      'volumes',
      'strip',
      'sticky',
      'http2',
      ...ofJobs,
    ],
  },
  server: { must: ['start'], never: ['root', ...ofSites, ...ofJobs] },
  worker: { must: ['start'], never: ['root', ...ofSites, ...ofJobs, 'at', 'ready', 'strip', 'sticky', 'http2'] },
  job: {
    must: ['run'],
    never: ['root', 'start', ...ofSites, 'ready', 'start_within', 'strip', 'sticky', 'http2', 'instances'],
  },
};

function readPart(name: string, one: { key: Span; value: Read }, report: Report): Part | null {
  const kind = textAt(one.value, 'kind') as PartKind | null;
  if (!kind) return null;
  const { must, never } = keysOf[kind];
  for (const key of must)
    if (!at(one.value, key))
      report('required_key', one.key, { key, place: `release.parts.${name}`, about: `a ${kind} has one` });
  for (const key of never) {
    const given = at(one.value, key);
    if (given) report('key_not_for', given.key, { key, kind: `a ${kind}` });
  }
  const path = readPath(kind, one.value, report);
  const [startWithin, immutable] = [textAt(one.value, 'start_within'), textsAt(one.value, 'immutable')];
  return {
    name,
    kind,
    needs: textsAt(one.value, 'needs') ?? [],
    files: textsAt(one.value, 'files') ?? (kind === 'site' && at(one.value, 'needs') ? [] : null),
    root: (textAt(one.value, 'root') ?? '').replace(/\/$/, '').replace(/^\.$/, ''),
    start: textAt(one.value, kind === 'job' ? 'run' : 'start') ?? '',
    schedule: kind === 'job' ? readSchedule(one, report) : null,
    timeoutMs: kind === 'job' ? (parseDuration(textAt(one.value, 'timeout') ?? '') ?? defaults.timeoutMs) : null,
    at: path === '/' ? path : path.replace(/\/$/, ''),
    fallback: textAt(one.value, 'fallback'),
    missing: textAt(one.value, 'missing'),
    maintenance: textAt(one.value, 'maintenance'),
    headers: entriesAt(one.value, 'headers').map(([path, { value }]) => ({ at: path, set: textsOf(value) })),
    redirects: entriesAt(one.value, 'redirects').map(([from, { value }]) => ({
      from,
      to: 'text' in value ? value.text : (textAt(value, 'to') ?? ''),
      permanent: textAt(value, 'permanent') === 'true',
    })),
    settings: readSettings(one.value),
    strip: textAt(one.value, 'strip') === 'true',
    sticky: textAt(one.value, 'sticky') === 'true',
    http2: textAt(one.value, 'http2') === 'true',
    ready: textAt(one.value, 'ready'),
    ...(startWithin ? { startWithinMs: parseDuration(startWithin) ?? defaultStartMs } : {}),
    ...(immutable ? { immutable } : {}),
    volumes: textsAt(one.value, 'volumes') ?? [],
    ...readSize(one.value, report),
    instances: readSize(one.value).instances ?? defaults.instances,
  };
}

/** The path of an address; a job has times there. */
function readPath(kind: PartKind, value: Read, report: Report): string {
  if (kind === 'job') return defaults.at;
  const given = listAt(value, 'at') ?? [];
  for (const { text: one, span } of given)
    if (!one.startsWith('/') || given.length > 1)
      report('key_not_for', span, { key: 'at', kind: `a ${kind}: it has one path` });
  return given[0]?.text ?? defaults.at;
}

/** When a job runs: `every`, or `at`. */
function readSchedule(one: { key: Span; value: Read }, report: Report): Schedule | null {
  const [every, at_] = [at(one.value, 'every'), listAt(one.value, 'at')];
  if ((every !== undefined && every !== null) === (at_ !== null && at_ !== undefined)) {
    report('one_of_keys', one.key, {
      place: 'a job',
      found: every ? 'both' : 'none',
      keys: '`every` and `at`',
    });
    return null;
  }
  if (every) {
    const everyMs = parseDuration(textAt(one.value, 'every') ?? '') ?? 0;
    if (everyMs < leastEveryMs) report('job_often', every.value.span, { least: '1m' });
    return { everyMs };
  }
  const times: DayTime[] = [];
  for (const { text: written, span } of at_ ?? []) {
    const time = parseDayTime(written);
    if (time) times.push(time);
    else report('job_time', span, { text: written });
  }
  return { at: times };
}

/** How many and how large, as a part or an environment says it. */
export function readSize(
  value: Read,
  report: Report = () => {},
): { instances: number | null; auto: Auto | null; memory: number | null; cpu: number | null } {
  const count = textAt(value, 'instances');
  const bounds = at(value, 'instances')?.value;
  const number = (key: string) => Number.parseFloat((bounds && textAt(bounds, key)) ?? '1');
  const auto =
    bounds && 'entries' in bounds ? { min: number('min'), max: number('max'), cpu: number('cpu') / 100 } : null;
  if (bounds && auto && auto.min > auto.max) report('bounds_crossed', bounds.span, { min: auto.min, max: auto.max });
  const [memory, cpu] = [textAt(value, 'memory'), textAt(value, 'cpu')];
  return {
    instances: count === null ? null : Number(count),
    auto,
    memory: memory === null ? null : parseSize(memory),
    cpu: cpu === null ? null : Number(cpu),
  };
}

const textsOf = (value: Read): Record<string, string> =>
  'entries' in value
    ? Object.fromEntries(
        [...value.entries].flatMap(([name, { value: one }]) => ('text' in one ? [[name, one.text]] : [])),
      )
    : {};

function readSettings(part: Read): Part['settings'] {
  const settings = at(part, 'settings')?.value;
  return settings ? { at: textAt(settings, 'at') ?? '', names: textsAt(settings, 'names') ?? [] } : null;
}

/** A settings file shows only variables that are declared, and none that is a secret. */
function checkSettings(part: Read, variables: Record<string, VariablePlan>, report: Report): void {
  const settings = at(part, 'settings')?.value;
  for (const { text: name, span } of (settings && listAt(settings, 'names')) || []) {
    const plan = Object.hasOwn(variables, name) ? variables[name] : undefined;
    if (!plan) report('unknown_variable', span, { name, hint: hintFor(name, Object.keys(variables)) });
    else if ((plan.kind === 'set' && plan.secret) || plan.kind === 'resource')
      report('settings_secret', span, { name });
  }
}

function checkVolumes(part: Read, resources: Record<string, ResourcePlan>, report: Report): void {
  const known = Object.values(resources).flatMap((one) => (one.kind === 'volume' ? [one.name] : []));
  const seen = new Set<string>();
  for (const { text: name, span } of listAt(part, 'volumes') ?? []) {
    if (!known.includes(name)) report('unknown_volume', span, { name, hint: hintFor(name, known) });
    else if (seen.has(name)) report('name_twice', span, { name, first: 'this volume', second: 'it again' });
    seen.add(name);
  }
}

function readVariable(
  name: string,
  one: { key: Span; value: Read },
  resources: Record<string, ResourcePlan>,
  report: Report,
): VariablePlan {
  if ('text' in one.value) return { kind: 'literal', value: one.value.text };
  const from = at(one.value, 'from');
  const fallback = textAt(one.value, 'default');
  if (from && fallback !== null)
    report('one_of_keys', one.key, { place: name, found: 'both', keys: '`from` and `default`' });
  if (!from) {
    const append = at(one.value, 'append');
    if (append) report('key_not_for', append.key, { key: 'append', kind: 'a variable without `from`' });
    const secret = textAt(one.value, 'secret') === 'true';
    if (secret && fallback !== null)
      report('key_not_for', at(one.value, 'default')?.key ?? one.key, {
        key: 'default',
        kind: 'a secret: everybody could read it here',
      });
    return {
      kind: 'set',
      default: fallback,
      secret,
      about: textAt(one.value, 'about'),
      untrusted: textAt(one.value, 'untrusted'),
    };
  }
  for (const key of ['secret', 'about', 'untrusted']) {
    const given = at(one.value, key);
    if (given) report('key_not_for', given.key, { key, kind: 'a variable with `from`' });
  }
  const reference = 'text' in from.value ? from.value.text : '';
  const append = textAt(one.value, 'append') ?? '';
  const found = /^([a-z][a-z0-9-]*)\.(\w+)$/.exec(reference);
  const [, resource = '', field = ''] = found ?? [];
  const plan = Object.hasOwn(resources, resource) ? resources[resource] : undefined;
  if (plan && fieldsOf[plan.kind].includes(field)) return { kind: 'resource', resource, field, append };
  const known = [
    ...references,
    ...Object.values(resources).flatMap((one) => fieldsOf[one.kind].map((of) => `${one.name}.${of}`)),
  ];
  if (!(references as readonly string[]).includes(reference) && !setReference.test(reference))
    report('unknown_reference', from.value.span, { name: reference, hint: hintFor(reference, known) });
  return { kind: 'from', from: reference, append };
}
