import { join } from 'node:path';
import type { Apart } from './apart/apart.js';
import type { Kept } from './kept.js';
import type { RunScene } from './scene.js';
import type { Keeping } from './space.js';
import type { Steps } from './steps.js';
import type { Issue } from '../core/errors.js';
import type { BlobStore } from '../blobs/store.js';
import type { ListedFile } from '../core/plan/plan.js';
import { listFiles, makeRepository } from '../git/repository.js';
import type { Keys } from '../keys/keys.js';
import type { Db, Records } from '../records/database.js';
import type { ProjectRow } from '../records/projects.js';

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
  /** Between two rounds of the upkeep of space. */
  space: number;
}

export const defaultTiming: Timing = { lease: 15_000, sweep: 5_000, ready: 60_000, warm: 15 * 60_000, drain: 10_000, space: 600_000 };

export interface Addresses {
  /** Suffix of the hosts of standing environments: `staging.sailings.SUFFIX`. */
  standing: string;
  /** Suffix of the hosts of reviews. */
  review: string;
  /** Where the edges are reached: scheme and port (null: the scheme's own). */
  scheme: 'http' | 'https';
  port: number | null;
}

export interface Log {
  info(data: object, text: string): void;
  warn(data: object, text: string): void;
  error(data: object, text: string): void;
}

/** What the loops and acts work with. */
export interface Context {
  records: Records;
  blobs: BlobStore;
  keys: Keys;
  /** Where people reach the service. */
  url: string;
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
  trees: Kept<ListedFile[]>;
  /** What the steps of the newest runs need. */
  scenes: Kept<RunScene>;
  /** Takes runs further. */
  steps: Steps;
}

/** Every file of a commit in the project's folder. */
export function treeOf(context: Pick<Context, 'repositories' | 'trees'>, project: Pick<ProjectRow, 'id' | 'folder'>, commit: string): Promise<ListedFile[]> {
  return context.trees.get(`${project.id} ${commit}`, () => listFiles(repositoryOf(context, project), commit, project.folder));
}

/** A project's bare repository. */
export const repositoryOf = (context: Pick<Context, 'repositories'>, project: Pick<ProjectRow, 'id'>): string =>
  join(context.repositories, `${project.id}.git`);

/** Makes it where it is missing. */
export async function ensureRepository(context: Pick<Context, 'repositories'>, project: Pick<ProjectRow, 'id' | 'main_branch'>): Promise<string> {
  const path = repositoryOf(context, project);
  await makeRepository(path, project.main_branch);
  return path;
}

export const urlOf = (addresses: Addresses, host: string): string => `${addresses.scheme}://${host}${addresses.port === null ? '' : `:${addresses.port}`}`;

export const standingHost = (addresses: Addresses, project: string, name: string): string => `${name}.${project}.${addresses.standing}`;
export const reviewHost = (addresses: Addresses, project: string, name: string): string => `${name}.${project}.${addresses.review}`;

export type { Db };
