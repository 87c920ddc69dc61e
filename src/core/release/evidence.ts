/** Evidence: statements about the bytes of a release, each with a digest of its own. */
import { digestOf } from '../canonical.js';
import type { EvidenceKind } from '../states.js';

export interface Evidence {
  kind: EvidenceKind;
  name: string;
  source: string;
  /** Of the bytes that it is about. */
  digest: string;
  detail: Record<string, unknown>;
  at: Date | string;
}

/** SHA-256 over the canonical JSON of all that it says; its time in UTC, to the millisecond. */
export const evidenceDigest = ({ kind, name, source, digest, detail, at }: Evidence): string =>
  `sha256:${digestOf({ kind, name, source, digest, detail, at: new Date(at).toISOString() })}`;

/** Milliseconds of the longest time in good health in an environment, and the deployment that had it. */
export function longestHealth(
  evidence: readonly Pick<Evidence, 'kind' | 'name' | 'source' | 'detail'>[],
  environment: string,
): { longest: number; source: string | null } {
  let [longest, source]: [number, string | null] = [0, null];
  for (const one of evidence) {
    if (one.kind !== 'health' || one.name !== environment) continue;
    const ms = Date.parse(String(one.detail.to)) - Date.parse(String(one.detail.from));
    if (ms > longest) [longest, source] = [ms, one.source];
  }
  return { longest, source };
}
