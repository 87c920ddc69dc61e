/** Refs under which a source keeps the heads of its pull requests: a pattern with one `*` in the place of the number. */

export interface PullRefs {
  before: string;
  after: string;
}

/** Null where it is no such pattern: a whole name of a ref that git allows, outside of branches and tags, with one `*`. */
export function readPullRefs(pattern: string): PullRefs | null {
  const [before, after, ...more] = pattern.split('*');
  if (before === undefined || after === undefined || more.length || pattern.length > 200) return null;
  if (!/^refs\/[A-Za-z0-9._/-]*$/.test(before) || !/^[A-Za-z0-9._/-]*$/.test(after)) return null;
  if (/^refs\/(heads|tags)\//.test(before) || before === 'refs/') return null;
  // As git-check-ref-format has it.
  if (/\.\.|\/\/|\/\.|\.lock(\/|$)|[./]$/.test(`${before}1${after}`)) return null;
  return { before, after };
}

/** The number in a ref; null where it is none of these. */
export function pullOfRef({ before, after }: PullRefs, ref: string): number | null {
  if (!ref.startsWith(before) || !ref.endsWith(after)) return null;
  const text = ref.slice(before.length, ref.length - after.length);
  return /^[1-9]\d{0,8}$/.test(text) ? Number(text) : null;
}

export type RefChange = { number: number; head: string } | { number: number; gone: true };

/** What differs from the look before: the lowest numbers first, so that what is many takes several looks. */
export function changedRefs(
  before: ReadonlyMap<number, string>,
  now: ReadonlyMap<number, string>,
  most: number,
): { changes: RefChange[]; more: boolean } {
  const all: RefChange[] = [
    ...[...now].flatMap(([number, head]) => (before.get(number) === head ? [] : [{ number, head }])),
    ...[...before.keys()].flatMap((number) => (now.has(number) ? [] : [{ number, gone: true as const }])),
  ].sort((a, b) => a.number - b.number);
  return { changes: all.slice(0, most), more: all.length > most };
}
