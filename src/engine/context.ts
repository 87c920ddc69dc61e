import { join } from 'node:path';
import { LRUCache } from 'lru-cache';
import type { Apart } from './apart/apart.js';
import type { DatabaseSizes } from '../core/advance/sizes.js';
import type { Issue } from '../core/errors/errors.js';
import type { Definition } from '../core/definition/model.js';
import type { AttemptRow } from '../records/runs/attempts.js';
import type { RunRow, TaskRow } from '../records/runs/runs.js';
import type { AttemptOver, Claim, RunState } from '../records/runs/steps.js';
import type { Stood } from './environments/stood.js';
import type { Takers } from './runs/takers.js';
import type { Told } from './figures/told.js';
import type { MailChannel } from '../channels/mail.js';
import type { CheckHost } from '../channels/pinned.js';
import type { Patience } from '../core/alerts/conditions.js';
import type { Names } from './domains/names.js';
import type { Kinds } from './resources/kinds.js';
import type { BlobStore } from '../blobs/store.js';
import type { ListedFile } from '../core/plan/plan.js';
import { type CommitFacts, listFiles, makeRepository } from '../git/repository.js';
import type { Keys } from '../keys/keys.js';
import type { ReleaseKeys } from '../keys/releases.js';
import type { Db, Records } from '../records/database.js';
import type { ProjectRow } from '../records/projects/projects.js';

/** Lengths of time, in milliseconds. Tests shorten them. */
export interface Timing {
  /** How long a claim holds without a sign of life. */
  lease: number;
  /** How often lost wake-ups are looked for. */
  sweep: number;
  /** How long a server may take to be ready. */
  ready: number;
  /** How long replaced servers stay ready for a revert. */
  warm: number;
  /** How long a server that was told to end may take. */
  drain: number;
  /** How long something of which nothing is recorded is known before it is removed. */
  stray: number;
  /** Between two rounds of the upkeep of space. */
  space: number;
  /** How long a review is awake before another one may put it to sleep. */
  awake: number;
  /** How long a terminal may stay without a byte either way, and in all. */
  idle: number;
  longest: number;
  /** How long deployments that go together wait for the last of them. */
  gather: number;
  /** How long a share waits for enough traffic to judge it by, before a person is asked. */
  few: number;
}

export const defaultTiming: Timing = {
  lease: 15_000,
  sweep: 5_000,
  ready: 60_000,
  warm: 15 * 60_000,
  drain: 10_000,
  stray: 7 * 86_400_000,
  space: 600_000,
  awake: 2 * 60_000,
  idle: 15 * 60_000,
  longest: 8 * 3_600_000,
  gather: 3_600_000,
  few: 3_600_000,
};

export interface Addresses {
  /** Domain of standing environments: `sailings-staging.DOMAIN`. */
  standing: string;
  /** Domain of reviews: `pr-214-sailings.DOMAIN`. */
  review: string;
  /** Domain of reviews of strangers' pull requests: one that shares no cookies with the others. */
  untrusted: string;
  /** Where the edges are reached: scheme and port (null: the scheme's own). */
  scheme: 'http' | 'https';
  port: number | null;
  /** Where they are reached over TLS; null: the scheme's own port. */
  tlsPort: number | null;
}

export interface Log {
  info(data: object, text: string): void;
  warn(data: object, text: string): void;
  error(data: object, text: string): void;
}

export interface Keeping {
  /** Runs of a project whose logs and outputs are kept. */
  runs: number;
  /** Releases of a project whose bytes are kept, besides those that are live, warm, or may still be promoted. */
  releases: number;
  /** Of the releases that were live in an environment, so many of the last keep their bytes: a revert may want them. */
  reverts: number;
  /** Milliseconds after which stored bytes that nothing names may go; an upload that is under way is younger. */
  grace: number;
  /** Milliseconds after whose end the logs of instances, prepare and verify go. */
  logs: number;
  /** Bytes that must be free for new work. */
  free: number;
}

/** What the steps of a run need that does not change while it goes on. */
export interface RunScene {
  project: ProjectRow;
  model: Definition | null;
  files: ListedFile[];
}

/** One thing that takes a run a step further. */
export interface Cause {
  /** An attempt that has ended. */
  over?: AttemptOver;
  /** The agent that reports it may have more work at once. */
  claim?: Claim | undefined;
  /** Digest of stored bytes that are broken. */
  forget?: string | undefined;
  /** When it was taken off the work list. */
  stamp?: string | undefined;
}

export interface Steps {
  /** Takes a run a step further; gives what its agent was given. Throws `fence_old` when the attempt is not held as was said. */
  take(run: string, cause: Cause): Promise<AttemptRow[]>;
  /** The run and the task that an attempt belongs to, where they are known as of the attempt's beginning. */
  known(attempt: string): KnownAttempt | null;
  /** Whether an attempt's task is known to run. */
  runs(attempt: string): boolean;
  /** Attempts of this run were claimed: what is known becomes this version, or is forgotten. */
  began(run: string, version: string, attempts: readonly string[]): void;
  /** What a run is, from who has just written it: its first step need not read that again. */
  learn(run: string, state: RunState): void;
}

export interface KnownAttempt {
  run: RunRow;
  task: TaskRow;
  /** Name of a task that it needs → digest of its output. */
  outputs: ReadonlyMap<string, string>;
}

/** What never changes once it is there, for the keys that were asked for last. A failure is not cached. */
export type Cache<T extends object> = LRUCache<string, T, () => Promise<T>>;

export const makeCache = <T extends object>(max: number): Cache<T> =>
  new LRUCache<string, T, () => Promise<T>>({ max, fetchMethod: (_key, _stale, { context }) => context() });

/** What the loops and acts work with. */
export interface Context {
  records: Records;
  blobs: BlobStore;
  keys: Keys;
  releaseKeys: ReleaseKeys;
  /** Where people reach the service. */
  url: string;
  /** Address at which agents reach this very service; null: the one that they have, which no other service shares. */
  door: string | null;
  /** Folder of the mirrors. */
  repositories: string;
  addresses: Addresses;
  timing: Timing;
  log: Log;
  keeping: Keeping;
  /** Why no new attempts are to be given out, or null. */
  full(): Promise<Issue | null>;
  /** Long computations. */
  apart: Apart;
  /** Milliseconds since the epoch. */
  now(): number;
  /** Files of the commits that were listed last; a commit never changes. */
  trees: Cache<ListedFile[]>;
  /** Commits that one has and main has not. */
  beside: Cache<CommitFacts[]>;
  /** Lines that differ between two commits of a project. */
  changes: Cache<Map<string, string>>;
  /** What the steps of the newest runs need. */
  scenes: Cache<RunScene>;
  /** Takes runs further. */
  steps: Steps;
  /** Agents that wait for work here. */
  takers: Takers;
  /** Programs that go on, and who waits for them here. */
  stood: Stood;
  /** What makes resources. */
  kinds: Kinds;
  /** Bytes that databases may hold where their definition says nothing. */
  sizes: DatabaseSizes;
  /** Names of addresses: whom to ask for them, and who certifies them. */
  names: Names;
  /** Ways out, and what may be reached by them. */
  channels: { mail: MailChannel; check: CheckHost };
  /** How long what is wrong lasts before it is told. */
  patience: Patience;
  /** Figures for a scraper. */
  told: Told;
}

/** Every file of a commit in the project's folder. */
export async function treeOf(
  context: Pick<Context, 'repositories' | 'trees'>,
  project: Pick<ProjectRow, 'id' | 'folder'>,
  commit: string,
): Promise<ListedFile[]> {
  const key = `${project.id} ${commit}`;
  const files = await context.trees.forceFetch(key, {
    context: () => listFiles(repositoryOf(context, project), commit, project.folder),
  });
  // A commit that is not here yet may be pushed.
  if (files.length === 0) context.trees.delete(key);
  return files;
}

/** A project's bare repository. */
export const repositoryOf = (context: Pick<Context, 'repositories'>, project: Pick<ProjectRow, 'id'>): string =>
  join(context.repositories, `${project.id}.git`);

/** Makes it where it is missing. */
export async function ensureRepository(
  context: Pick<Context, 'repositories'>,
  project: Pick<ProjectRow, 'id' | 'main_branch'>,
): Promise<string> {
  const path = repositoryOf(context, project);
  await makeRepository(path, project.main_branch);
  return path;
}

export const urlOf = (addresses: Addresses, host: string): string =>
  `${addresses.scheme}://${host}${addresses.port === null ? '' : `:${addresses.port}`}`;

/** Where people reach an environment: at the first name of its own whose certificate everyone trusts, else at the one that the service has given. */
export const reachedAt = (addresses: Addresses, host: string, main: string | null): string =>
  main === null ? urlOf(addresses, host) : tlsUrlOf(addresses, main);

export const tlsUrlOf = ({ tlsPort }: Addresses, host: string): string =>
  `https://${host}${tlsPort === null ? '' : `:${tlsPort}`}`;

/** The domain of an environment's address, without its label. */
export const domainOf = (addresses: Addresses, kind: 'standing' | 'review' | 'untrusted'): string => addresses[kind];

export type { Db };
