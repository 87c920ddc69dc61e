/**
 * Reads a text by the shapes of the language: all mistakes in one pass, each with its place in the text.
 *
 * Stage 1 is YAML (errors of syntax, refused features), stage 2 the shapes. What comes out is plain data
 * with the place of every value; `model.ts` makes the definition of it.
 */
import { isAlias, isMap, isScalar, isSeq, type Node, type Pair, parseDocument, type ParsedNode } from 'yaml';
import { issue, type ErrorCode, type Issue, type IssueData } from '../errors/errors.js';
import { hintFor } from '../nearest.js';
import type { Key, Shape } from './shapes.js';

/** Start and end in the text, in UTF-16 units. */
export type Span = readonly [start: number, end: number];
export interface PlacedIssue extends Issue {
  span: Span;
  severity: 'error' | 'warning';
}

/** A value that knows where it stood. */
export type Read = { span: Span } & (
  | { text: string }
  | { list: Read[] }
  | { entries: Map<string, { key: Span; value: Read }> }
);

export interface Reading {
  root: Read | null;
  issues: PlacedIssue[];
}

export function readText(text: string, shape: Shape): Reading {
  const issues: PlacedIssue[] = [];
  const report: Report = (code, span, data = {}) => issues.push({ ...issue(code, data), span, severity: 'error' });
  const deep = nestedAt(text);
  if (deep !== null) {
    report('definition_nested', [deep, deep + 1], { limit: nesting });
    return { root: null, issues };
  }
  const document = parseDocument(text, {
    schema: 'failsafe',
    uniqueKeys: false,
    strict: true,
    version: '1.2',
    prettyErrors: false,
    logLevel: 'error',
  });
  for (const error of document.errors)
    report('yaml_syntax', [error.pos[0], error.pos[1]], {
      detail: error.message.replace(/\s+/g, ' ').replace(/\.$/, ''),
    });
  const root = document.contents ? read(document.contents, shape, 'the file', report) : null;
  if (!document.contents && document.errors.length === 0)
    report('required_key', [0, 0], { key: 'tsunagi', place: 'the file', about: 'tsunagi: 1' });
  return { root, issues };
}

/** Brackets in each other at most: a reader of YAML takes a step of its stack, and more than a step of time, for each. */
const nesting = 64;

/** Where a text opens more brackets in each other than may be, or null. Brackets in texts count: nobody leaves so many open there. */
function nestedAt(text: string): number | null {
  let depth = 0;
  for (let at = 0; at < text.length; at++) {
    const code = text.charCodeAt(at);
    // [ and {, ] and }
    if (code === 91 || code === 123) {
      if (++depth > nesting) return at;
    } else if ((code === 93 || code === 125) && depth > 0) depth--;
  }
  // Lists in lists on one line: `- - - x`.
  return /^ *(?:[-?] ){65}/m.exec(text)?.index ?? null;
}

type Report = (code: ErrorCode, span: Span, data?: IssueData) => void;

function read(node: ParsedNode | Node, shape: Shape, place: string, report: Report): Read | null {
  const span = spanOf(node);
  const refused = refusedFeature(node);
  if (refused) {
    report('yaml_feature', span, { what: refused });
    return null;
  }
  switch (shape.kind) {
    case 'text':
    case 'choice':
      return readScalar(node, shape, span, report);
    case 'list':
      return readList(node, shape, span, place, report);
    case 'named':
      return readNamed(node, shape, span, place, report);
    case 'record':
      return shape.orText && isScalar(node)
        ? readScalar(node, shape.orText, span, report)
        : readRecord(node, shape, span, place, report);
  }
}

function readScalar(node: Node, shape: Shape, span: Span, report: Report): Read | null {
  if (!isScalar(node) || typeof node.value !== 'string') return wrongKind(node, shape, span, report);
  const text = node.value;
  if (shape.kind === 'choice') {
    if (shape.of.includes(text)) return { span, text };
    report('wrong_choice', span, { text: short(text), hint: hintFor(text, shape.of) });
    return null;
  }
  if (shape.kind !== 'text') return null;
  if (text === '' && node.source === '' && shape.what !== 'text') return wrongKind(node, shape, span, report);
  if ((shape.pattern && !new RegExp(shape.pattern).test(text)) || (shape.fits && !shape.fits(text))) {
    report('wrong_text', span, { text: short(text), expected: shape.what, example: shape.example });
    return null;
  }
  return { span, text };
}

function readList(node: Node, shape: Shape & { kind: 'list' }, span: Span, place: string, report: Report): Read | null {
  if (shape.orOne && isScalar(node)) {
    const one = read(node, shape.of, place, report);
    return one && { span, list: [one] };
  }
  if (!isSeq(node)) return wrongKind(node, shape, span, report);
  const list = (node.items as Node[]).map((one) => read(one, shape.of, place, report)).filter((one) => one !== null);
  if (node.items.length < (shape.least ?? 0)) return wrongKind(node, shape, span, report);
  if (shape.most !== undefined && list.length > shape.most) {
    report('list_long', span, { place, most: shape.most, count: list.length });
    return null;
  }
  return { span, list };
}

function readNamed(
  node: Node,
  shape: Shape & { kind: 'named' },
  span: Span,
  place: string,
  report: Report,
): Read | null {
  if (!isMap(node)) return wrongKind(node, shape, span, report);
  const entries: Entries = new Map();
  for (const [key, keySpan, value] of pairs(node.items as Pair<Node, Node | null>[], entries, report)) {
    const taken = shape.name.taken?.(key);
    if (!new RegExp(shape.name.pattern).test(key))
      report('wrong_text', keySpan, { text: short(key), expected: shape.name.what, example: shape.name.example });
    else if (taken)
      report(shape.name.what.includes('variable') ? 'taken_variable' : 'taken_name', keySpan, {
        name: key,
        why: taken,
      });
    const one = value ? read(value, shape.of, `${place === 'the file' ? '' : `${place}.`}${key}`, report) : null;
    if (!value) report('wrong_kind', keySpan, { expected: expected(shape.of), found: 'nothing' });
    if (one) entries.set(key, { key: keySpan, value: one });
  }
  if (node.items.length < (shape.least ?? 0)) report('no_parts', span);
  return { span, entries };
}

function readRecord(
  node: Node,
  shape: Shape & { kind: 'record' },
  span: Span,
  place: string,
  report: Report,
): Read | null {
  if (!isMap(node)) return wrongKind(node, shape, span, report);
  const entries: Entries = new Map();
  const given = new Set<string>();
  for (const [key, keySpan, value] of pairs(node.items as Pair<Node, Node | null>[], entries, report)) {
    given.add(key);
    const known = Object.hasOwn(shape.keys, key) ? shape.keys[key] : undefined;
    const renamed = shape.renamed && Object.hasOwn(shape.renamed, key) ? shape.renamed[key] : undefined;
    if (renamed) report('key_renamed', keySpan, { key, now: renamed });
    else if (!known) report('unknown_key', keySpan, { key: short(key), hint: hintFor(key, Object.keys(shape.keys)) });
    else if (known.later) report('not_yet_supported', keySpan, { key });
    else if (!value) report('wrong_kind', keySpan, { expected: expected(known.shape), found: 'nothing' });
    else {
      const one = read(value, known.shape, place === 'the file' ? key : `${place}.${key}`, report);
      if (one) entries.set(key, { key: keySpan, value: one });
    }
  }
  for (const [key, known] of Object.entries(shape.keys) as [string, Key][]) {
    if (known.required && !given.has(key))
      report('required_key', [span[0], span[0] + 1], { key, place, about: known.about });
  }
  return { span, entries };
}

type Entries = Map<string, { key: Span; value: Read }>;

function* pairs(
  items: Pair<Node, Node | null>[],
  seen: Entries,
  report: Report,
): Generator<[string, Span, Node | null]> {
  const before = new Set<string>(seen.keys());
  for (const pair of items) {
    const span = spanOf(pair.key);
    const refused = refusedFeature(pair.key);
    if (refused || !isScalar(pair.key) || typeof pair.key.value !== 'string') {
      report('yaml_feature', span, { what: refused ?? 'keys that are lists or maps' });
      continue;
    }
    const key = pair.key.value;
    if (before.has(key)) {
      report('repeated_key', span, { key: short(key) });
      continue;
    }
    before.add(key);
    yield [key, span, pair.value];
  }
}

function wrongKind(node: Node, shape: Shape, span: Span, report: Report): null {
  const found = isMap(node)
    ? 'a map'
    : isSeq(node)
      ? node.items.length
        ? 'a list'
        : 'an empty list'
      : isScalar(node) && node.source === ''
        ? 'nothing'
        : 'text';
  report('wrong_kind', span, { expected: expected(shape), found });
  return null;
}

function expected(shape: Shape): string {
  switch (shape.kind) {
    case 'text':
      return `${shape.what} (such as ${shape.example})`;
    case 'choice':
      return shape.of.join(' or ');
    case 'list':
      return shape.orOne ? `${expected(shape.of)}, or a list of them` : `a list of ${expected(shape.of)}`;
    case 'named':
      return `a map from ${shape.name.what}`;
    case 'record':
      return `${shape.orText ? 'text or ' : ''}a map of ${Object.entries(shape.keys)
        .filter(([, key]) => !key.later)
        .map(([key]) => key)
        .join(', ')}`;
  }
}

function refusedFeature(node: Node): string | null {
  if (isAlias(node)) return 'aliases (*)';
  if ('anchor' in node && node.anchor) return 'anchors (&)';
  return node.tag ? 'tags (!)' : null;
}

const spanOf = (node: Node | null): Span =>
  node?.range ? [node.range[0], Math.max(node.range[1], node.range[0] + 1)] : [0, 1];
const short = (text: string): string => (text.length > 60 ? `${text.slice(0, 57)}…` : text);
