/** Looks into what was read: values by key, with their places. */
import type { ErrorCode, IssueData } from '../errors/errors.js';
import type { Read, Span } from './read.js';

export type Report = (code: ErrorCode, span: Span, data?: IssueData) => void;

export const at = (value: Read | undefined, key: string): { key: Span; value: Read } | undefined =>
  value && 'entries' in value ? value.entries.get(key) : undefined;
export const textAt = (value: Read, key: string): string | null => {
  const one = at(value, key)?.value;
  return one && 'text' in one ? one.text : null;
};
export const listAt = (value: Read, key: string): { text: string; span: Span }[] | null => {
  const one = at(value, key)?.value;
  return one && 'list' in one
    ? one.list.flatMap((item) => ('text' in item ? [{ text: item.text, span: item.span }] : []))
    : null;
};
export const textsAt = (value: Read, key: string): string[] | null =>
  listAt(value, key)?.map((one) => one.text) ?? null;
export const entriesAt = (value: Read, key: string): [string, { key: Span; value: Read }][] => {
  const one = at(value, key)?.value;
  return one && 'entries' in one ? [...one.entries] : [];
};
