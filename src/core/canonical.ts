import { createHash } from 'node:crypto';

/** Canonical JSON: keys sorted by code unit, no white space, `undefined` left out. Equal values give equal text. */
export function canonical(value: unknown): string {
  if (Array.isArray(value)) return `[${value.map((one) => canonical(one ?? null)).join(',')}]`;
  if (value && typeof value === 'object') {
    const entries = Object.entries(value).filter(([, one]) => one !== undefined);
    entries.sort(([a], [b]) => (a < b ? -1 : a > b ? 1 : 0));
    return `{${entries.map(([key, one]) => `${JSON.stringify(key)}:${canonical(one)}`).join(',')}}`;
  }
  return JSON.stringify(value) ?? 'null';
}

/** SHA-256 as 64 hexadecimal digits. */
export const sha256 = (bytes: string | Uint8Array): string => createHash('sha256').update(bytes).digest('hex');

/** SHA-256 over canonical JSON. */
export const digestOf = (value: unknown): string => sha256(canonical(value));
