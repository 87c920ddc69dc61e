/**
 * The text of a dotenv file → variables. There is no standard; what its common readers agree on is taken: `NAME=value`, an optional
 * `export `, comments behind `#`, single quotes (literal), double quotes (with \n, \r, \t, \", \\), values of several lines in
 * quotes, a BOM, CRLF. Nothing is expanded. What is doubtful is an issue with its line, never a guess.
 */
import { type ErrorCode, issue, type IssueData } from '../errors/errors.js';

export interface DotenvIssue {
  code: ErrorCode;
  data: IssueData;
  severity: 'error' | 'warning';
  /** Counted from 1. */
  line: number;
}

export interface Dotenv {
  values: Record<string, string>;
  issues: DotenvIssue[];
}

export const dotenvLimit = 256 * 1024;

/** Names that a person may set; those of the service and of the system are refused by `takenVariable`. */
const nameShape = /^[A-Za-z_][A-Za-z0-9_]*$/;
const escapes: Record<string, string> = { n: '\n', r: '\r', t: '\t', '"': '"', '\\': '\\', $: '$' };

export function parseDotenv(source: string): Dotenv {
  const text = source.replace(/^\uFEFF/, '').replace(/\r\n?/g, '\n');
  const values: Record<string, string> = Object.create(null) as Record<string, string>;
  const issues: DotenvIssue[] = [];
  const seen = new Map<string, number>();
  let line = 1;
  const say = (code: ErrorCode, data: IssueData, severity: 'error' | 'warning', where = line) =>
    issues.push({ ...issue(code, data), severity, line: where });
  for (let at = 0; at < text.length; ) {
    const end = lineEnd(text, at);
    const raw = text.slice(at, end);
    const here = line;
    at = end + 1;
    line++;
    const trimmed = raw.trim();
    if (trimmed === '' || trimmed.startsWith('#')) continue;
    const found = /^\s*(?:export\s+)?([^=\s]+)\s*=\s*/.exec(raw);
    const name = found?.[1] ?? '';
    if (!found) {
      say(
        'dotenv_line',
        { text: trimmed.slice(0, 40).replace(/[^\s].{8,}$/, (one) => `${one.slice(0, 8)}…`) },
        'error',
        here,
      );
      continue;
    }
    if (!nameShape.test(name)) {
      say('variable_name', { name: name.slice(0, 60) }, 'error', here);
      continue;
    }
    let value: string;
    const quote = raw[found[0].length];
    if (quote === '"' || quote === "'") {
      const from = at - 1 - raw.length + found[0].length + 1;
      const close = closing(text, from, quote);
      if (close < 0) {
        say('dotenv_quote', { name, quote: quote === '"' ? 'double' : 'single' }, 'error', here);
        break;
      }
      const inner = text.slice(from, close);
      value = quote === '"' ? inner.replace(/\\([nrt"\\$])/g, (_, one: string) => escapes[one] as string) : inner;
      const rest = text.slice(close + 1, lineEnd(text, close)).trim();
      if (rest && !rest.startsWith('#')) say('dotenv_rest', { name }, 'error', here);
      line = here + inner.split('\n').length;
      at = lineEnd(text, close) + 1;
    } else {
      value = raw
        .slice(found[0].length)
        .replace(/\s#.*$/, '')
        .trim();
      if (/\$\{?[A-Za-z_]/.test(value)) say('dotenv_expansion', { name }, 'warning', here);
    }
    if (value.includes('\0')) {
      say('variable_value', { name, why: 'it has a zero byte' }, 'error', here);
      continue;
    }
    const before = seen.get(name);
    if (before !== undefined) say('dotenv_repeated', { name, line: before }, 'warning', here);
    seen.set(name, here);
    values[name] = value;
  }
  return { values: { ...values }, issues };
}

const lineEnd = (text: string, from: number): number => {
  const end = text.indexOf('\n', from);
  return end < 0 ? text.length : end;
};

/** Where the quote is closed, or -1. In double quotes a backslash takes the next character's meaning away. */
function closing(text: string, from: number, quote: string): number {
  for (let at = from; at < text.length; at++) {
    if (quote === '"' && text[at] === '\\') at++;
    else if (text[at] === quote) return at;
  }
  return -1;
}
