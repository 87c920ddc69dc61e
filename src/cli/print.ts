/** Text for a terminal: tables that fit, colour never alone, times relative. */
import { eastAsianWidth } from 'get-east-asian-width';
import { durationText } from '../core/durations.js';
export { bytesText as bytes } from '../core/sizes.js';
import { CodedError, type Issue, wording } from '../core/errors/errors.js';

const colour = (): boolean => Boolean(process.stdout.isTTY) && !process.env.NO_COLOR;
const paint = (code: number) => (text: string) => (colour() ? `\u001b[${code}m${text}\u001b[0m` : text);
export const faint = paint(2);
export const bold = paint(1);

const shades: Record<string, (text: string) => string> = {
  met: paint(32),
  'not met': paint(31),
  waits: paint(33),
  needs: paint(33),
  passed: paint(32),
  good: paint(32),
  live: paint(32),
  ready: paint(32),
  reused: paint(32),
  failed: paint(31),
  down: paint(31),
  lost: paint(31),
  reverted: paint(33),
  running: paint(33),
  poor: paint(33),
  starting: paint(33),
  preparing: paint(33),
  cutover: paint(33),
  verifying: paint(33),
};
/** A state's word, coloured where there is a terminal. */
export const state = (word: string): string => (shades[word] ?? faint)(word);

// biome-ignore lint/suspicious/noControlCharactersInRegex: these are the terminal's own
const codes = /\u001b\[[0-9;]*m/g;
/** What takes no cell of its own: marks on the letter before, joiners, and what asks for another look of it. */
const unseen = /^[\p{Mark}\p{Default_Ignorable_Code_Point}\p{Control}]$/u;

/** Cells of a terminal: wide characters take two, colours and marks none. A picture that is joined of several is taken for the widest of them. */
function width(text: string): number {
  const bare = text.replace(codes, '');
  // Nearly all of it is plain; what knows more of letters takes its time to begin.
  if (/^[ -~]*$/.test(bare)) return bare.length;
  let cells = 0;
  let joined = false;
  for (const letter of bare) {
    if (!joined && !unseen.test(letter)) cells += eastAsianWidth(letter.codePointAt(0) ?? 0);
    joined = letter === '\u200d';
  }
  return cells;
}

/** Sequences that steer a terminal (ECMA-48, 5.4). */
// biome-ignore lint/suspicious/noControlCharactersInRegex: these are the terminal's own
const sequences = /\u001b\[[0-9;?]*[ -/]*[@-~]/g;

// biome-ignore lint/suspicious/noControlCharactersInRegex: that is what is looked for
const controls = /[\u0000-\u001f\u007f-\u009f]/g;

/** What turns the direction of what stands around it (Unicode Standard Annex 9, 2.1 to 2.4): a line reads otherwise than it is. */
const turns = /[\u202a-\u202e\u2066-\u2069]/g;

/** What comes from outside is shown as text only: nothing of it steers the terminal. */
export const plain = (text: string): string => text.replace(sequences, '').replace(turns, '').replace(controls, ' ');

/** Sequences that only colour what follows (ECMA-48, 8.3.117). */
// biome-ignore lint/suspicious/noControlCharactersInRegex: these are the terminal's own
const colours = /^\u001b\[[0-9;:]{0,40}m$/;
/** Everything that steers a terminal: sequences with their parameters, strings such as titles and links, single controls. Tabs are text. */
const steering =
  // biome-ignore lint/suspicious/noControlCharactersInRegex: that is what is looked for
  /\u001b\[[0-9;:?<=>!]*[ -/]*[@-~]|\u001b[\]PX^_][^\u0007\u001b\u009c]*(?:\u0007|\u001b\\|\u009c)?|\u001b[ -/]*[0-~]?|[\u0000-\u0008\u000b-\u001a\u001c-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/g;

/** A line that a program printed: as text, and in its colours where this terminal shows colours; nothing else of it reaches the terminal. */
export function printed(line: string): string {
  let coloured = false;
  const text = line.replace(/\r+$/, '').replace(steering, (found) => {
    if (!colour() || !colours.test(found)) return '';
    coloured = true;
    return found;
  });
  return coloured ? `${text}\u001b[0m` : text;
}

/** Aligned columns; the last one is cut to fit the terminal. */
export function table(head: string[], rows: string[][]): string {
  const widths = head.map((text, at) => Math.max(width(text), ...rows.map((row) => width(row[at] ?? ''))));
  const limit = process.stdout.isTTY ? process.stdout.columns : Number.POSITIVE_INFINITY;
  const line = (cells: string[]) => {
    let used = 0;
    return cells
      .map((cell, at) => {
        if (at === cells.length - 1) return cut(cell, limit - used);
        used += (widths[at] ?? 0) + 2;
        return cell + ' '.repeat(Math.max(0, (widths[at] ?? 0) - width(cell)) + 2);
      })
      .join('')
      .trimEnd();
  };
  return [faint(line(head)), ...rows.map(line)].join('\n');
}

function cut(text: string, room: number): string {
  if (width(text) <= room) return text;
  let kept = '';
  for (const { segment } of new Intl.Segmenter().segment(text.replace(codes, ''))) {
    if (width(kept + segment) > Math.max(1, room - 1)) break;
    kept += segment;
  }
  return `${kept}…`;
}

export function ago(iso: string | null): string {
  if (!iso) return '';
  const ms = Date.now() - Date.parse(iso);
  return ms < 2_000 ? 'now' : `${durationText(ms).replace(/(\d+) min \d+ s/, '$1 min')} ago`;
}

export const took = (from: string | null, to: string | null): string =>
  from && to ? durationText(Date.parse(to) - Date.parse(from)) : '';
export const short = (commit: string): string => commit.slice(0, 7);
export const say = (...lines: string[]): void => void process.stdout.write(`${lines.join('\n')}\n`);
export const json = (value: unknown): void => say(JSON.stringify(value, null, 2));

/** An error on standard error: what happened and why, and the next thing to do. */
export function sayIssue(issue: Issue): void {
  const { says, next } = wording(issue);
  process.stderr.write(`${plain(says)}\n${next ? `${plain(next)}\n` : ''}`);
}

/** 1: it ran and the answer is no · 2: used wrongly · 3: the service can't be reached or failed. */
export function exitStatus(error: unknown): number {
  if (!(error instanceof CodedError)) return 3;
  const { code } = error.issue;
  if (code === 'usage' || code === 'no_project' || code === 'not_signed_in') return 2;
  return error.status >= 500 ? 3 : error.status === 400 ? 2 : 1;
}
