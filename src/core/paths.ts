/** Paths and patterns of a definition: relative to the project's folder and anchored there. */
import { compileGlob } from './glob.js';

/** Why a path can't be used, in words, or null. Refuses what leaves the folder and what can't be laid out. */
export function unsafePath(path: string): string | null {
  if (path === '') return 'it is empty';
  if (path.includes('\0')) return 'it holds a zero byte';
  if (path.startsWith('/')) return 'it begins with /';
  // Most paths are short and plain: they are told by one look.
  if (path.length < 80 && plainPath.test(path)) return null;
  const steps = path.replace(/\/$/, '').split('/');
  if (steps.some((step) => step === '..')) return 'it leaves the folder';
  if (steps.some((step) => step === '' || step === '.')) return 'it has an empty step';
  if (steps.some((step) => Buffer.byteLength(step) > 255)) return 'a step of it is longer than 255 bytes';
  if (Buffer.byteLength(path) > 4000) return 'it is longer than 4,000 bytes';
  return null;
}

/** Steps of letters, digits and a few marks, none of them beginning with a dot. */
const plainPath = /^[\w@-][\w@.-]*(?:\/[\w@-][\w@.-]*)*\/?$/;

export interface Selection {
  /** The chosen paths, in the order given. */
  paths: string[];
  /** Patterns that chose nothing. */
  idle: string[];
}

/**
 * Chooses among `paths` by patterns: a name means that file or that whole folder; `*` stays within one folder, `**` crosses;
 * `except PATTERN` takes away. `null` patterns mean all.
 */
export function select(paths: readonly string[], patterns: readonly string[] | null): Selection {
  if (patterns === null) return { paths: [...paths], idle: [] };
  const chosen = new Set<number>();
  const left = new Set<number>();
  const idle: string[] = [];
  for (const source of patterns) {
    const except = /^except\s+/.test(source);
    const found = matching(paths, source.replace(/^except\s+/, '').replace(/\/$/, ''));
    if (found.length === 0) idle.push(source);
    for (const at of found) (except ? left : chosen).add(at);
  }
  const order = [...chosen].filter((at) => !left.has(at)).sort((a, b) => a - b);
  return { paths: order.map((at) => paths[at] as string), idle };
}

/** Places in `paths` that a pattern means. */
function matching(paths: readonly string[], pattern: string): number[] {
  if (!pattern.includes('*')) {
    // A folder's files stand together in the order of their names.
    const { order } = sortedOf(paths);
    const found = range(paths, order, `${pattern}/`);
    const own = place(paths, order, pattern);
    if (paths[order[own] as number] === pattern) found.push(order[own] as number);
    return found;
  }
  const matches = compileGlob(pattern);
  return paths.flatMap((path, at) => (matches(path) ? [at] : []));
}

/** Orders of the lists that were asked last; a list is not changed once it is given here. */
const orders = new WeakMap<readonly string[], { order: Uint32Array }>();

function sortedOf(paths: readonly string[]): { order: Uint32Array } {
  const known = orders.get(paths);
  if (known) return known;
  const order = Uint32Array.from(paths.keys()).sort((a, b) => ((paths[a] as string) < (paths[b] as string) ? -1 : 1));
  const fresh = { order };
  orders.set(paths, fresh);
  return fresh;
}

/** The first place in the order that is not before `text`. */
function place(paths: readonly string[], order: Uint32Array, text: string): number {
  let low = 0;
  let high = order.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((paths[order[middle] as number] as string) < text) low = middle + 1;
    else high = middle;
  }
  return low;
}

function range(paths: readonly string[], order: Uint32Array, prefix: string): number[] {
  const found: number[] = [];
  for (
    let at = place(paths, order, prefix);
    at < order.length && (paths[order[at] as number] as string).startsWith(prefix);
    at++
  )
    found.push(order[at] as number);
  return found;
}
