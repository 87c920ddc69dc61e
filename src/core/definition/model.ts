/** The definition as the rest of the house sees it: complete, with every default filled in. */
import type { SiteHeaders, SiteRedirect } from '../cutover/route.js';
import type { Schedule } from '../calendar/schedule.js';
import type { CutoverPlan } from '../cutover/steps.js';
import type { Except } from '../cutover/use.js';
import type { GuardPlan } from '../cutover/verdict.js';
import type { GuardedAccess, PartKind, ResourceKind, UseKind } from '../states.js';

export interface Definition {
  /** Of this model, as it is stored; see `stored.ts`. */
  version: 6;
  /** Tool → range of versions. */
  tools: Record<string, string>;
  tasks: Record<string, TaskPlan>;
  release: ReleasePlan | null;
  environments: Record<string, EnvironmentPlan>;
}

/** Stands beside patterns of branches; no branch can be called so. */
export const pullRequests = 'pull requests';

/** A task as the definition declares it. */
export interface TaskPlan {
  name: string;
  /** Patterns; null means every file of the project's folder. */
  reads: string[] | null;
  needs: string[];
  run: string[];
  makes: string[];
  network: boolean;
  /** Milliseconds. */
  timeout: number;
  variables: Record<string, TaskVariable>;
  /** Path of its test results (JUnit XML or TAP), or null. */
  results: string | null;
  /** Path of its coverage (LCOV), or null. */
  coverage: string | null;
  /** Folders, without a slash at the end; those of HOME begin with `~/`. */
  cache: string[];
  /** Pieces, or null for a task that is not cut. */
  shards: number | null;
  /** Variable → the values for which the task is repeated. */
  each: Record<string, string[]>;
  /** Further tries after a failure. */
  retry: number;
  resources: Record<string, 'postgres'>;
  reuse: boolean;
  /** Patterns of branches, and `pull requests`; null for all of them. */
  for: string[] | null;
}

/** Literal text, or a reference and what is appended to its value. */
export type TaskVariable = string | { from: string; append: string };

/** One task of a run: a declared one, or one of those that `each` and `shards` make of it. */
export interface Task extends Omit<TaskPlan, 'shards' | 'each'> {
  /** The name in the definition. */
  of: string;
  /** The values of `each` that this one has. */
  each: Record<string, string>;
  /** Which piece of how many; counted from 1. */
  shard: { index: number; count: number } | null;
}

/** Bounds between which a part is held by the processor that it takes. */
export interface Auto {
  min: number;
  max: number;
  /** Share of its cores that each is to take: 0 to 1. */
  cpu: number;
}

export interface Part {
  name: string;
  kind: PartKind;
  needs: string[];
  files: string[] | null;
  /** Site: the folder that is served. */
  root: string;
  /** Server, worker, job: the command. */
  start: string;
  /** Site, server: path of the address, without a slash at the end except `/` itself. */
  at: string;
  fallback: string | null;
  /** Site: the page of a 404. */
  missing: string | null;
  /** Site: what visitors are shown while `prepare` keeps the old programs stopped. */
  maintenance: string | null;
  headers: SiteHeaders[];
  redirects: SiteRedirect[];
  /** Site: a file that is answered from these variables; `at` is below the part's own path. */
  settings: { at: string; names: string[] } | null;
  /** Server: whether `at` is taken off the path that the program sees. */
  strip: boolean;
  /** Server: whether a visitor stays with an instance. */
  sticky: boolean;
  /** Server: whether it is asked in HTTP/2, without TLS. */
  http2: boolean;
  /** Job: when it runs; null for other kinds. */
  schedule: Schedule | null;
  /** Job: milliseconds after which it is ended; null for other kinds. */
  timeoutMs: number | null;
  ready: string | null;
  /** Server, worker: milliseconds in which it must be ready; left out: `defaultStartMs`. */
  startWithinMs?: number;
  /** Site: folders whose files never change under their name, below its root; left out: none. */
  immutable?: string[];
  instances: number;
  /** Bounds of the number, where the processor decides on it; null: it stays. */
  auto: Auto | null;
  /** Names of volumes that it sees, below `volumesInside`. */
  volumes: string[];
  /** Bytes that each instance may take; null: as the agent gives. */
  memory: number | null;
  /** Cores; null: all that are free. */
  cpu: number | null;
}

export type VariablePlan =
  | { kind: 'literal'; value: string }
  /** People set it; `untrusted` is what untrusted work gets in its place. */
  | { kind: 'set'; default: string | null; secret: boolean; about: string | null; untrusted: string | null }
  | { kind: 'from'; from: string; append: string }
  /** A field of a resource: known only where a program starts, and never stored. */
  | { kind: 'resource'; resource: string; field: string; append: string };

/** What each environment of the release has of its own. */
export interface ResourcePlan {
  name: string;
  kind: ResourceKind;
  /** postgres: extensions that are made in it. */
  extensions: string[];
  /** Bytes that it may hold: a volume has one, a database where it is said. */
  size?: number;
  /** How often a backup is made, how many are kept, how often one is tried; null: on request alone. */
  backup: { everyMs: number; keep: number; tryMs: number | null } | null;
}

export interface ReleasePlan {
  needs: string[];
  parts: Record<string, Part>;
  resources: Record<string, ResourcePlan>;
  variables: Record<string, VariablePlan>;
  /** `again`: another try may follow one of which nobody knows how far it got; `stops`: the old programs are stopped before it runs; `timeoutMs`:
   * milliseconds after which it is ended, `defaults.timeoutMs` where it is left out. */
  prepare: { part: string; run: string; again: boolean; stops: boolean; timeoutMs?: number } | null;
  /** Patterns of the files that are listed as migrations; null: none. */
  migrations: string[] | null;
  /** Patterns of those that old programs can't bear; left out: none. */
  oneWay?: string[];
}

export interface EnvironmentPlan {
  name: string;
  for: typeof pullRequests | null;
  /** Drafts get none; left out: they do. */
  drafts?: false;
  /** Fills new data, with the files of a part; left out: nothing does. */
  seed?: { part: string; run: string };
  /** What makes a copy of its data fit for others; left out: it is not copied. */
  scrub?: ScrubPlan;
  /** Database or volume → what it begins as; left out: empty. */
  data?: Record<string, Origin>;
  /** Pages of which pictures are taken after each deployment; left out: of reviews the first one. */
  pictures?: string[];
  /** Who may look at a review; left out: everybody. */
  access?: GuardedAccess;
  /** Of reviews; left out: as `defaultIdle` says. */
  idle?: IdlePlan;
  branch: string | null;
  after: string | null;
  /** Milliseconds for which it must have been live there in good health; left out: no time. */
  healthy?: number;
  promotion: 'manual' | 'automatic';
  /** Releasers who must approve; left out: none. */
  approvals?: number;
  /** Hours in which nothing is taken, as `parseFrozen` reads them; left out: none. */
  frozen?: string[];
  /** The steps in which the traffic moves; left out: all at once. */
  cutover?: CutoverPlan;
  /** What is copied in a mirror besides what has no cookies, and where answers must be equal; left out: nothing. Paths without a slash at the end. */
  mirror?: { paths: string[]; same: string[] };
  /** Above which it goes back; left out: no bounds. */
  guard?: GuardPlan;
  /** Milliseconds for which replaced servers stay ready; left out: as the operator has set it. */
  warm?: number;
  verify: { reads: string[] | null; run: string } | null;
  /** Part → what of its size differs here. */
  parts: Record<string, { instances: number | null; auto: Auto | null; memory: number | null; cpu: number | null }>;
  /** Names of its own under which it is reached, as `checkedName` gives them. */
  addresses: string[];
}

export interface ScrubPlan {
  part: string;
  run: string;
}

/** Data that begins as a copy of another environment's. */
export interface Origin {
  copy: string;
  /** Milliseconds that the copied data may be old. */
  freshMs: number;
}

export const defaultFreshMs = 86_400_000;

/** When reviews sleep and close, and what counts as use of them. */
export interface IdlePlan {
  /** Milliseconds without a use, until it falls asleep; null: never by itself. */
  sleep: number | null;
  /** Milliseconds asleep, until its programs end. */
  end: number;
  /** Milliseconds without a use or a push, until it closes; null: never by itself. */
  close: number | null;
  /** Reviews that are awake at a time; null: as many as there is room for. */
  awakeLimit: number | null;
  count: UseKind[];
  except: Except;
}

export const defaultIdle: IdlePlan = {
  sleep: 20 * 60_000,
  end: 2 * 3_600_000,
  close: 3 * 86_400_000,
  awakeLimit: null,
  count: ['requests', 'connections'],
  except: { paths: [], headers: {} },
};

/** When environments of a plan sleep and close; null: standing ones do neither. */
export const idleOf = (plan: Pick<EnvironmentPlan, 'for' | 'idle'> | undefined): IdlePlan | null =>
  plan && plan.for !== null ? (plan.idle ?? defaultIdle) : null;

/** `variable.NAME`: what people have set under that name. */
export const setReference = /^variable\.([A-Za-z_][A-Za-z0-9_]{0,99})$/;

/** What `from` of a task's variable knows, besides its resources and `variable.NAME`. */
export const taskReferences = ['run.commit', 'run.branch', 'project.name'] as const;
export const resourceFields = ['url', 'host', 'port', 'user', 'password', 'database'] as const;

/** What references to a resource know, by kind. */
export const fieldsOf: Record<ResourceKind, readonly string[]> = { postgres: resourceFields, volume: ['path'] };

/** Where programs find their volumes: a folder for each, of its name. */
export const volumesInside = '/volumes';

/** Milliseconds in which a program must be ready, and the most that a definition may give it. */
export const defaultStartMs = 60_000;
export const mostStartMs = 30 * 60_000;

export const defaults = { timeoutMs: 30 * 60_000, instances: 1, at: '/', promotion: 'manual', backups: 7 } as const;

/** What `from` of a release's variable knows, besides `variable.NAME` and fields of its resources. */
export const references = [
  'environment.name',
  'environment.url',
  'release.number',
  'release.commit',
  'project.name',
] as const;

/** The tasks whose passing is a release's evidence: its needs and those of its parts, with everything they need in turn. */
export function evidenceTasks(definition: Pick<Definition, 'tasks' | 'release'>): string[] {
  if (!definition.release) return [];
  return withNeeds(definition.tasks, [
    ...definition.release.needs,
    ...Object.values(definition.release.parts).flatMap((part) => part.needs),
  ]);
}

/** `names` and all that they need, in an order in which needs come first. */
export function withNeeds(tasks: Record<string, Pick<Task, 'needs'>>, names: readonly string[]): string[] {
  const order = new Set<string>();
  const visit = (name: string, path: readonly string[]): void => {
    if (order.has(name) || path.includes(name)) return;
    for (const need of tasks[name]?.needs ?? []) visit(need, [...path, name]);
    if (tasks[name]) order.add(name);
  };
  for (const name of names) visit(name, []);
  return [...order];
}
