/**
 * LCOV's tracefile format (geninfo(1), "FILES") → which lines of the project's files were run. Of its records those of lines
 * are read: `SF:` file, `DA:` line, times; `end_of_record`. A file that comes twice counts a line as run when either says so.
 */

/** Lines as text, rising: `1-5,7`. */
export type Lines = string;

export interface FileCoverage {
  /** Path below the project's folder. */
  path: string;
  hit: Lines;
  missed: Lines;
}

export interface Coverage {
  /** Lines that can be run, and those that were. */
  found: number;
  hit: number;
  files: FileCoverage[];
}

export const coverageFiles = 5_000;
/** Characters of all the lines of a coverage. */
const textLimit = 4_000_000;
const highestLine = 10_000_000;

/** Never throws. Files outside the project are left out, and those that packages brought. */
export function parseLcov(text: string): { coverage: Coverage; detail: null } | { coverage: null; detail: string } {
  const files = new Map<string, Map<number, boolean>>();
  let lines: Map<number, boolean> | null = null;
  let known = false;
  for (const raw of text.split('\n')) {
    const line = raw.trim();
    if (line.startsWith('SF:')) {
      known = true;
      const path = pathOf(line.slice(3));
      if (path === null) lines = null;
      else {
        lines = files.get(path) ?? new Map();
        files.set(path, lines);
      }
      if (files.size > coverageFiles) return { coverage: null, detail: `it has more than ${coverageFiles} files` };
    } else if (line === 'end_of_record') lines = null;
    else if (lines && line.startsWith('DA:')) {
      const [number, times] = line.slice(3).split(',').map(Number);
      if (number === undefined || !Number.isInteger(number) || number < 1 || number > highestLine) continue;
      lines.set(number, lines.get(number) === true || Number(times) > 0);
    }
  }
  if (!known) return { coverage: null, detail: 'no file is in it (`SF:`)' };
  const coverage: Coverage = { found: 0, hit: 0, files: [] };
  let characters = 0;
  for (const [path, seen] of [...files].sort(([a], [b]) => (a < b ? -1 : 1))) {
    const of = (ran: boolean) => [...seen].flatMap(([line, was]) => (was === ran ? [line] : []));
    const [hit, missed] = [of(true), of(false)];
    coverage.found += seen.size;
    coverage.hit += hit.length;
    const file = { path, hit: linesText(hit), missed: linesText(missed) };
    characters += path.length + file.hit.length + file.missed.length;
    coverage.files.push(file);
  }
  return characters > textLimit ? { coverage: null, detail: 'it is too large' } : { coverage, detail: null };
}

function pathOf(text: string): string | null {
  const path = text
    .replaceAll('\\', '/')
    .replace(/^\/project\//, '')
    .replace(/^\.\//, '');
  if (path === '' || path.startsWith('/') || /(^|\/)(\.\.|node_modules)(\/|$)/.test(path)) return null;
  return path;
}

export function linesText(lines: readonly number[]): Lines {
  const ranges: [number, number][] = [];
  for (const line of [...lines].sort((a, b) => a - b)) {
    const last = ranges.at(-1);
    if (last && line <= last[1] + 1) last[1] = line;
    else ranges.push([line, line]);
  }
  return textOf(ranges);
}

type Range = readonly [from: number, to: number];

const rangesOf = (text: Lines): Range[] =>
  (text === '' ? [] : text.split(',')).map((range) => {
    const [from = 0, to = from] = range.split('-').map(Number);
    return [from, to];
  });

/** What two lists of rising ranges have in common; in one pass, however long the ranges are. */
function common(a: readonly Range[], b: readonly Range[]): Range[] {
  const both: Range[] = [];
  for (let [i, j] = [0, 0]; i < a.length && j < b.length; ) {
    const [x, y] = [a[i] as Range, b[j] as Range];
    const [from, to] = [Math.max(x[0], y[0]), Math.min(x[1], y[1])];
    if (from <= to) both.push([from, to]);
    if (x[1] < y[1]) i++;
    else j++;
  }
  return both;
}

const count = (ranges: readonly Range[]): number => ranges.reduce((sum, [from, to]) => sum + to - from + 1, 0);
const textOf = (ranges: readonly Range[]): Lines =>
  ranges.map(([from, to]) => (from === to ? `${from}` : `${from}-${to}`)).join(',');

/**
 * The coverage of some lines alone: those that a change touches, path → lines. Lines that can't be run, and files of which nothing
 * is known, are left out.
 */
export function coverageOf(coverage: Pick<Coverage, 'files'>, changed: ReadonlyMap<string, Lines>): Coverage {
  const files: FileCoverage[] = [];
  let [found, hit] = [0, 0];
  for (const file of coverage.files) {
    const touched = changed.get(file.path);
    if (touched === undefined) continue;
    const set = rangesOf(touched);
    const ran = common(rangesOf(file.hit), set);
    const missed = common(rangesOf(file.missed), set);
    if (ran.length + missed.length === 0) continue;
    found += count(ran) + count(missed);
    hit += count(ran);
    files.push({ path: file.path, hit: textOf(ran), missed: textOf(missed) });
  }
  return { found, hit, files };
}

/** `12 of 14 lines (86 %)`. */
export const shareText = ({ found, hit }: { found: number; hit: number }): string =>
  `${hit} of ${found} lines${found ? ` (${Math.floor((hit / found) * 100)} %)` : ''}`;
