/** The first input of a fingerprint that differs from another's, in the order in which people look for a reason. */
import { canonical } from '../canonical.js';

/** Kept inputs (`keptInputs`): what is recorded with a task. */
export type KeptInputs = Record<string, unknown>;

export interface Difference {
  /** Which input: `run`, `reads`, `variables` … */
  input: string;
  /** The name inside it (a variable, a need, a tool), or null. */
  name: string | null;
  /** Short texts of both sides; null where there is none. Values of variables are shown: secrets are kept as keyed hashes. */
  before: string | null;
  now: string | null;
}

const order = [
  'run',
  'reads',
  'needs',
  'variables',
  'each',
  'shard',
  'resources',
  'makes',
  'results',
  'coverage',
  'network',
  'versions',
  'base',
  'project',
  'folder',
  'format',
] as const;

/** All that differs; empty when the inputs are the same. */
export function differences(before: KeptInputs, now: KeptInputs): Difference[] {
  return order.flatMap((input) => {
    const [a, b] = [before[input], now[input]];
    if (canonical(a ?? null) === canonical(b ?? null)) return [];
    const inside = named(input, a, b);
    return inside ?? [{ input, name: null, before: short(a), now: short(b) }];
  });
}

/** Entries of maps and needs are told by name. */
function named(input: string, a: unknown, b: unknown): Difference[] | null {
  const entries =
    input === 'needs'
      ? [byNeed(a), byNeed(b)]
      : input === 'variables' || input === 'each' || input === 'versions' || input === 'resources'
        ? [asMap(a), asMap(b)]
        : null;
  if (!entries) return null;
  const [before, now] = entries as [Map<string, unknown>, Map<string, unknown>];
  return [...new Set([...before.keys(), ...now.keys()])]
    .sort()
    .filter((name) => canonical(before.get(name) ?? null) !== canonical(now.get(name) ?? null))
    .map((name) => ({ input, name, before: short(before.get(name)), now: short(now.get(name)) }));
}

const asMap = (value: unknown): Map<string, unknown> =>
  new Map(Object.entries((value ?? {}) as Record<string, unknown>));
const byNeed = (value: unknown): Map<string, unknown> =>
  new Map(
    ((value ?? []) as { need: string; digest: string | null }[]).map(({ need, ...rest }) => [
      need,
      rest.digest ?? 'nothing',
    ]),
  );

function short(value: unknown): string | null {
  if (value === undefined || value === null) return null;
  const text =
    typeof value === 'string' ? value : Array.isArray(value) ? value.map(String).join('; ') : canonical(value);
  return text.length > 160 ? `${text.slice(0, 157)}…` : text;
}
