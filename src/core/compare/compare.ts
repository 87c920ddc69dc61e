/** What differs between two lists of the same kind of thing: files of a part, variables, resources, sizes. */

export type What = 'added' | 'removed' | 'changed';

export interface Change<T> {
  name: string;
  what: What;
  /** Null: it is not there. */
  from: T | null;
  to: T | null;
}

/** By name; what is the same on both sides is left out. `same`: whether two of one name are. */
export function changesBetween<T>(
  from: ReadonlyMap<string, T>,
  to: ReadonlyMap<string, T>,
  same: (a: T, b: T) => boolean,
): Change<T>[] {
  const changes: Change<T>[] = [];
  for (const [name, one] of to) {
    const before = from.get(name);
    if (before === undefined) changes.push({ name, what: 'added', from: null, to: one });
    else if (!same(before, one)) changes.push({ name, what: 'changed', from: before, to: one });
  }
  for (const [name, one] of from) if (!to.has(name)) changes.push({ name, what: 'removed', from: one, to: null });
  return changes.sort((a, b) => (a.name < b.name ? -1 : a.name > b.name ? 1 : 0));
}

/** A file of a part, as a layer lists it. */
export interface PartFile {
  /** Bytes. */
  size: number;
  /** Of what it holds, how it may be run, and where a link leads: the same, the same file. */
  digest: string;
}

/** Files of a part: of its layers the last one that has a path counts. */
export const partFiles = (layers: readonly ReadonlyMap<string, PartFile>[]): Map<string, PartFile> =>
  new Map(layers.flatMap((layer) => [...layer]));

/** What a deployment was made of, kept with it: nothing of it is put together again later. */
export interface MadeOf {
  /** Commit of main's definition; null: there was none. */
  definition: string | null;
  /** Tool → its exact version. */
  tools: Record<string, string>;
  /** Name → a keyed hash of its value: the same, the same value. Of a secret nothing else is known. */
  variables: Record<string, { hash: string; secret: boolean }>;
  resources: Record<string, { kind: string; size: number | null; extensions: string[] }>;
  /** Path → id of the file. */
  migrations: Record<string, string>;
  /** Of parts that are programs. Bytes, cores; null: as agents give. */
  sizes: Record<string, { instances: number; memory: number | null; cpu: number | null }>;
}
