/**
 * What identifies a task's work. Everything that the work can see is an input; the trust scope is not:
 * results are kept by (trust scope, fingerprint).
 */
import { digestOf } from '../canonical.js';
import type { Task } from '../definition/model.js';
import { type TaskFacts, taskValues } from '../variables/task.js';

/** A file of a commit: path inside the project's folder, mode as git writes it, object id. */
export interface TreeFile {
  path: string;
  mode: string;
  id: string;
}

export interface NeedOutput {
  need: string;
  makes: string[];
  /** Digest of the need's outputs, or null when it makes none. */
  digest: string | null;
}

export interface FingerprintInputs {
  format: 1;
  project: string;
  folder: string;
  run: string[];
  reads: [path: string, mode: string, id: string][];
  needs: NeedOutput[];
  variables: Record<string, string | ResourceInput | SecretInput>;
  each: Record<string, string>;
  shard: { index: number; count: number } | null;
  resources: Record<string, string>;
  makes: string[];
  results: string | null;
  coverage: string | null;
  network: boolean;
  /** Tool → exact version that was pinned. */
  versions: Record<string, string>;
  /** Digest of the agent's base: system, architecture, C library, package list, operator's settings. */
  base: string;
}

/** What an attempt's own resource gives enters by its reference: its value is another one in each attempt. */
export interface ResourceInput {
  from: string;
  append: string;
}

/** A secret enters by its keyed hash. */
export interface SecretInput {
  secret: string;
  append: string;
}

export interface FingerprintContext extends TaskFacts {
  folder: string;
  versions: Record<string, string>;
  base: string;
  /** Kind of resource → version; only those that the task has are inputs of it. */
  resources?: Record<string, string>;
}

export function fingerprintInputs(
  task: Task,
  files: readonly TreeFile[],
  needs: readonly NeedOutput[],
  context: FingerprintContext,
): FingerprintInputs {
  const byText = (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0);
  const { values, fromResources, secrets } = taskValues(task, context);
  return {
    format: 1,
    project: context.project.name,
    folder: context.folder,
    run: task.run,
    reads: files
      .map((file): [string, string, string] => [file.path, file.mode, file.id])
      .sort((a, b) => byText(a[0], b[0])),
    needs: [...needs].sort((a, b) => byText(a.need, b.need)),
    variables: {
      ...values,
      ...fromResources,
      ...Object.fromEntries(
        Object.entries(secrets).map(([name, { hash, append }]) => [name, { secret: hash, append }]),
      ),
    },
    each: task.each,
    shard: task.shard,
    resources: Object.fromEntries(
      Object.entries(task.resources).map(([name, kind]) => [name, `${kind} ${context.resources?.[kind] ?? ''}`.trim()]),
    ),
    makes: [...task.makes].sort(byText),
    results: task.results,
    coverage: task.coverage,
    network: task.network,
    versions: context.versions,
    base: context.base,
  };
}

/** 64 hexadecimal digits. */
export const fingerprint = (inputs: FingerprintInputs): string => digestOf(inputs);

/** What is kept of the inputs with the task: the files as one digest, since the commit has them all. */
export const keptInputs = ({ reads, ...rest }: FingerprintInputs): Record<string, unknown> => ({
  ...rest,
  reads: { count: reads.length, digest: digestOf(reads) },
});
