/** Definition and tree → the tasks of a run, with the files that each one sees. */
import semver from 'semver';
import type { Definition, Task } from '../definition/model.js';
import { evidenceTasks } from '../definition/model.js';
import { expandTasks, type Occasion } from './expand.js';
import { issue, type Issue } from '../errors/errors.js';
import type { TreeFile } from '../fingerprint/inputs.js';
import { select, unsafePath } from '../paths.js';

/** A file as git lists it; `name` is null when its bytes are not UTF-8, `shown` is then a readable form of them. */
export interface ListedFile {
  path: string | null;
  shown: string;
  mode: string;
  id: string;
}

export interface PlannedTask {
  task: Task;
  position: number;
  /** Whether the release waits for it. */
  evidence: boolean;
  files: TreeFile[];
}

export type Plan = { tasks: PlannedTask[]; issues: Issue[] };

const submodule = '160000';

/** All tasks in an order in which needs come first. Names that can't be laid out are an error only where a task or part sees them. */
export function planRun(definition: Definition, listed: readonly ListedFile[], occasion: Occasion): Plan {
  const { issues } = chosenOf(listed);
  const evidence = new Set(evidenceTasks(definition));
  const tasks = expandTasks(definition.tasks, occasion).map(
    (task, position): PlannedTask => ({
      task,
      position,
      evidence: evidence.has(task.of),
      files: filesOf(listed, task.reads),
    }),
  );
  return { tasks, issues };
}

/** The files that a list of patterns chooses (a part's `files`, `reads` of verify). What was chosen of a list is kept as long as the list is. */
export function filesOf(listed: readonly ListedFile[], patterns: string[] | null): TreeFile[] {
  const known = chosenOf(listed);
  const key = JSON.stringify(patterns);
  const before = known.chosen.get(key);
  if (before) return before;
  const wanted = new Set(select(known.paths, patterns).paths);
  const files = known.files.filter((file) => wanted.has(file.path));
  known.chosen.set(key, files);
  return files;
}

/** Keeps what was chosen of a list elsewhere. */
export function rememberFiles(listed: readonly ListedFile[], patterns: string[] | null, files: TreeFile[]): void {
  chosenOf(listed).chosen.set(JSON.stringify(patterns), files);
}

/** Comparisons of a pattern with a path that choosing the files of a definition takes, for so many files. Equal lists are compared once. */
export function selectionCost(definition: Definition, files: number): number {
  const lists = [
    ...Object.values(definition.tasks).map((task) => task.reads),
    ...Object.values(definition.release?.parts ?? {}).map((part) => part.files),
    ...Object.values(definition.environments).map((environment) => environment.verify?.reads ?? null),
  ];
  const different = new Map(lists.map((list) => [JSON.stringify(list), list]));
  return [...different.values()].reduce(
    (sum, list) => sum + (list ?? []).filter((one) => one.includes('*')).length * files,
    0,
  );
}

interface Chosen {
  files: TreeFile[];
  paths: string[];
  issues: Issue[];
  /** By the patterns as JSON. */
  chosen: Map<string, TreeFile[]>;
}

const choices = new WeakMap<readonly ListedFile[], Chosen>();

function chosenOf(listed: readonly ListedFile[]): Chosen {
  const known = choices.get(listed);
  if (known) return known;
  const issues: Issue[] = [];
  const files = usableFiles(listed, issues);
  const fresh = { files, paths: files.map((file) => file.path), issues, chosen: new Map() };
  choices.set(listed, fresh);
  return fresh;
}

function usableFiles(listed: readonly ListedFile[], issues: Issue[]): TreeFile[] {
  const files: TreeFile[] = [];
  for (const file of listed) {
    if (file.mode === submodule) continue;
    const why = file.path === null ? null : unsafePath(file.path);
    if (file.path === null) issues.push(issue('path_not_text', { name: file.shown }));
    else if (why) issues.push(issue('path_unusable', { name: file.shown, why }));
    else files.push({ path: file.path, mode: file.mode, id: file.id });
  }
  return files;
}

export interface AgentOffer {
  /** Tool → exact versions it has. */
  tools: Record<string, string>;
  base: string;
}

/**
 * Pins one exact version of each named tool, and a base: the newest version that will do, on the first agent that has them all.
 * Tools that the definition does not name are not pinned one by one: the base digest holds them.
 */
export function pinTools(
  versions: Record<string, string>,
  agents: readonly AgentOffer[],
): { versions: Record<string, string>; base: string } | Issue | null {
  if (agents.length === 0) return null;
  const fits = agents.filter((agent) =>
    Object.entries(versions).every(([tool, range]) => satisfies(agent.tools[tool], range)),
  );
  const chosen = fits.sort((a, b) => compareOffers(b, a, Object.keys(versions)))[0];
  if (chosen)
    return {
      base: chosen.base,
      versions: Object.fromEntries(Object.keys(versions).map((tool) => [tool, chosen.tools[tool] as string])),
    };
  const missing =
    Object.entries(versions).find(([tool, range]) => !agents.some((agent) => satisfies(agent.tools[tool], range))) ??
    Object.entries(versions)[0];
  const [tool, range] = missing as [string, string];
  const have = [...new Set(agents.map((agent) => agent.tools[tool]).filter((one) => one !== undefined))];
  return issue('no_agent_for_versions', { tool, range, have: have.length ? have.join(', ') : 'none of it' });
}

export interface Pin {
  /** The tools that the definition names. */
  versions: Record<string, string>;
  base: string;
  /** Kind of resource → version of what it is made with. */
  resources: Record<string, string>;
}

/** Pins what the tasks of a run need: the tools of its definition, and what its resources are made of. */
export function pinRun(
  versions: Record<string, string>,
  tasks: readonly Pick<PlannedTask, 'task'>[],
  agents: readonly AgentOffer[],
): Pin | Issue | null {
  const kinds = [...new Set(tasks.flatMap((one) => Object.values(one.task.resources)))];
  const pinned = pinTools({ ...Object.fromEntries(kinds.map((kind) => [kind, '*'])), ...versions }, agents);
  if (!pinned || 'code' in pinned) return pinned;
  const pick = (names: readonly string[]) =>
    Object.fromEntries(names.map((name) => [name, pinned.versions[name] as string]));
  return { versions: pick(Object.keys(versions)), base: pinned.base, resources: pick(kinds) };
}

function satisfies(version: string | undefined, range: string): boolean {
  const exact = version && semver.coerce(version, { includePrerelease: true });
  return Boolean(exact && semver.satisfies(exact, range, { includePrerelease: true }));
}

function compareOffers(a: AgentOffer, b: AgentOffer, tools: string[]): number {
  for (const tool of tools) {
    const order = semver.compare(semver.coerce(a.tools[tool]) ?? '0.0.0', semver.coerce(b.tools[tool]) ?? '0.0.0');
    if (order !== 0) return order;
  }
  return a.base < b.base ? -1 : a.base > b.base ? 1 : 0;
}
