/**
 * The registry of errors: code → wording, HTTP status, whether trying again can help.
 *
 * An issue is data (`code` and `data`); its text is made last, by `wording`, so that the API, the command
 * line and the console say the same. A code that is retired is never used again.
 */
import type { ErrorEntry } from './entry.js';
import { ofAddresses } from './addresses.js';
import { ofDeliveries } from './deliveries.js';
import { findings } from './findings.js';
import { reasons } from './reasons.js';
import { refusals } from './refusals.js';
import { ofJobs } from './jobs.js';
import { ofTerminals } from './terminals.js';
import { ofVolumes } from './volumes.js';
import { ofCopies } from './copies.js';
import { ofPictures } from './pictures.js';
import { ofResources } from './resources.js';
import { ofRules } from './rules.js';
import { ofExports } from './exports.js';
import { ofTogether } from './together.js';

/** Each code stands in one of these. */
export const lists = [
  findings,
  reasons,
  refusals,
  ofResources,
  ofCopies,
  ofPictures,
  ofAddresses,
  ofDeliveries,
  ofJobs,
  ofTerminals,
  ofVolumes,
  ofRules,
  ofExports,
  ofTogether,
] as const;

export const registry = {
  ...findings,
  ...reasons,
  ...refusals,
  ...ofResources,
  ...ofCopies,
  ...ofPictures,
  ...ofAddresses,
  ...ofDeliveries,
  ...ofJobs,
  ...ofTerminals,
  ...ofVolumes,
  ...ofRules,
  ...ofExports,
  ...ofTogether,
} as const satisfies Record<string, ErrorEntry>;

export type ErrorCode = keyof typeof registry;
export type IssueData = Record<string, string | number | null | undefined>;

/** One thing that is wrong, as data. */
export interface Issue {
  code: ErrorCode;
  data: IssueData;
}

/** A fresh issue. */
export const issue = (code: ErrorCode, data: IssueData = {}): Issue => ({ code, data });

const fill = (text: string, data: IssueData) =>
  text.replace(/\{(\w+)\}/g, (_, name: string) => String(data[name] ?? ''));

/** The words of an issue: `says` what happened and why, `next` what to do. An unknown code (of a newer service) is shown as it is. */
export function wording(one: Issue): { says: string; next: string } {
  const known: ErrorEntry | undefined = registry[one.code];
  if (!known) return { says: String(one.code), next: '' };
  return { says: fill(known.says, one.data), next: fill(known.next, one.data) };
}

/** An issue that is thrown. `cause` keeps what it was made of. */
export class CodedError extends Error {
  readonly issue: Issue;
  constructor(code: ErrorCode, data: IssueData = {}, cause?: unknown) {
    super(wording({ code, data }).says, cause === undefined ? undefined : { cause });
    this.name = 'CodedError';
    this.issue = { code, data };
  }
  get status(): number {
    return registry[this.issue.code].status;
  }
  /** Whether the same may succeed later without a change. */
  get retry(): boolean {
    return registry[this.issue.code].retry;
  }
}
