/** Two releases beside each other: as they are, or as they are deployed somewhere. */
import { LRUCache } from 'lru-cache';
import type { BlobStore } from '../../blobs/store.js';
import { listLayer } from '../../blobs/listing.js';
import { type Change, changesBetween, type MadeOf, partFiles, type PartFile } from '../../core/compare/compare.js';
import { canonical } from '../../core/canonical.js';
import { definitionLimit } from '../../core/definition/parse.js';
import { unifiedDifference } from '../../core/difference.js';
import { CodedError } from '../../core/errors/errors.js';
import { type CommitFacts, commitsBetween, readFile } from '../../git/repository.js';
import { type DeploymentRow, deploymentById, findDeployment } from '../../records/deployments/deployments.js';
import { environmentById, findEnvironment } from '../../records/deployments/environments.js';
import { type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import { branchHead, pullsOfCommits } from '../../records/projects/sources.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { toolsOfRun } from '../../records/runs/runs.js';
import { type Context, type Db, repositoryOf } from '../context.js';
import { needRelease, placeOf } from '../deployments/acts.js';
import { migrationsOf } from '../deployments/migrations.js';
import { resourcesOf } from './made-of.js';
import { definitionPath } from '../runs/planning.js';

export interface Side {
  /** As it was asked for: `production`, `r57`, `d12`. */
  name: string;
  environment: string | null;
  release: ReleaseRow;
  deployment: DeploymentRow | null;
}

export interface PartChange {
  name: string;
  from: string | null;
  to: string | null;
  /** Bytes of its layers. */
  fromSize: number;
  toSize: number;
  /** Null: its bytes are gone, on one side. */
  files: { changes: Change<PartFile>[]; count: number } | null;
}

export interface Comparison {
  from: Side;
  to: Side;
  commits: (CommitFacts & { pull: number | null })[];
  /** What `from` has and `to` has not. */
  lost: (CommitFacts & { pull: number | null })[];
  /** Of `to`: what is not in main. */
  notInMain: CommitFacts[];
  /** A unified difference; empty: they are the same. */
  definition: string;
  parts: PartChange[];
  tools: Change<string>[];
  resources: Change<MadeOf['resources'][string]>[];
  migrations: Change<string>[];
  /** Null: one side is deployed nowhere, or is older than what is kept of it. */
  variables: Change<{ hash: string; secret: boolean; value: string | null }>[] | null;
  sizes: Change<MadeOf['sizes'][string]>[] | null;
}

/** Commits, and files of a part, that are told. */
export const [mostCommits, mostFiles] = [1_000, 500];

/** By digest, so that it is the same for whoever asks; files of all of them together. */
const listings = new LRUCache<string, Map<string, PartFile>, BlobStore>({
  maxSize: 400_000,
  sizeCalculation: (files) => files.size + 1,
  fetchMethod: async (digest, _stale, { context: blobs }) => {
    const blob = await blobs.open(digest);
    return blob ? listLayer(blob.stream) : undefined;
  },
});

/** `production`: what is live there; `r57`; `d12`. */
export async function sideOf(db: Db, project: ProjectRow, name: string): Promise<Side> {
  const number = Number(/^[rd]([1-9]\d{0,8})$/.exec(name)?.[1] ?? 0);
  if (number > 0 && name.startsWith('r'))
    return { name, environment: null, release: await needRelease(db, project, number), deployment: null };
  const environment = number > 0 ? null : await findEnvironment(db, project.id, name);
  const deployment =
    number > 0
      ? await findDeployment(db, project.id, number)
      : environment?.live_id
        ? await deploymentById(db, environment.live_id)
        : null;
  if (!deployment)
    throw new CodedError('not_found', {
      what: environment ? `A release in ${placeOf(project, environment)}` : `${name} of ${project.name}`,
      hint: 'Compare environments (production), releases (r57) or deployments (d12).',
    });
  const own = environment ?? (await environmentById(db, deployment.environment_id));
  return { name, environment: own.name, release: await releaseById(db, deployment.release_id), deployment };
}

export async function compare(
  context: Context,
  db: Db,
  project: ProjectRow,
  names: { from: string; to: string },
): Promise<Comparison> {
  const [from, to] = [await sideOf(db, project, names.from), await sideOf(db, project, names.to)];
  const repository = repositoryOf(context, project);
  const main = await branchHead(db, project.id, project.main_branch);
  const [gained, lost, notInMain, before, after] = await Promise.all([
    commitsBetween(repository, from.release.commit, to.release.commit, mostCommits),
    commitsBetween(repository, to.release.commit, from.release.commit, mostCommits),
    main ? commitsBetween(repository, main, to.release.commit, 50) : [],
    textOf(context, project, from.release.commit),
    textOf(context, project, to.release.commit),
  ]);
  const pulls = await pullsOfCommits(
    db,
    project.id,
    [...gained, ...lost].map(({ id }) => id),
  );
  const told = (all: readonly CommitFacts[]) => all.map((one) => ({ ...one, pull: pulls.get(one.id) ?? null }));
  const [a, b] = [from.deployment?.made_of ?? null, to.deployment?.made_of ?? null];
  return {
    from,
    to,
    commits: told(gained),
    lost: told(lost),
    notInMain: [...notInMain],
    definition: unifiedDifference(definitionPath(project.folder), before, after),
    parts: await partsBetween(context.blobs, from.release, to.release),
    tools: named(
      a?.tools ?? (await toolsOfRun(db, from.release.run_id)),
      b?.tools ?? (await toolsOfRun(db, to.release.run_id)),
    ),
    resources: named(a?.resources ?? resourcesOf(from.release), b?.resources ?? resourcesOf(to.release)),
    migrations: named(
      a?.migrations ?? (await migrationIds(context, project, from.release)),
      b?.migrations ?? (await migrationIds(context, project, to.release)),
    ),
    variables: a && b ? variablesBetween(from, a, to, b) : null,
    sizes: a && b ? named(a.sizes, b.sizes) : null,
  };
}

const named = <T>(from: Record<string, T>, to: Record<string, T>): Change<T>[] =>
  changesBetween(new Map(Object.entries(from)), new Map(Object.entries(to)), (x, y) => canonical(x) === canonical(y));

const migrationIds = async (
  context: Context,
  project: ProjectRow,
  release: ReleaseRow,
): Promise<Record<string, string>> =>
  Object.fromEntries((await migrationsOf(context, project, release)).map(({ path, id }) => [path, id]));

/** Plain values are shown as programs got them; of a secret it is known that it is another one. */
function variablesBetween(from: Side, a: MadeOf, to: Side, b: MadeOf): Comparison['variables'] {
  const all = (side: Side, made: MadeOf) =>
    new Map(
      Object.entries(made.variables).map(([name, one]) => [
        name,
        { ...one, value: one.secret ? null : (side.deployment?.variables[name] ?? null) },
      ]),
    );
  return changesBetween(all(from, a), all(to, b), (x, y) => x.hash === y.hash && x.secret === y.secret);
}

async function textOf(context: Context, project: ProjectRow, commit: string): Promise<string> {
  const found = await readFile(
    repositoryOf(context, project),
    commit,
    definitionPath(project.folder),
    definitionLimit,
  ).catch(() => null);
  return found === null || found === 'too large' ? '' : found.toString('utf8');
}

async function partsBetween(blobs: BlobStore, from: ReleaseRow, to: ReleaseRow): Promise<PartChange[]> {
  const names = [...new Set([...from.parts, ...to.parts].map(({ name }) => name))].sort();
  const find = (release: ReleaseRow, name: string) => release.parts.find((one) => one.name === name) ?? null;
  return Promise.all(
    names.map(async (name): Promise<PartChange> => {
      const [a, b] = [find(from, name), find(to, name)];
      const size = (one: typeof a) => one?.layers.reduce((sum, layer) => sum + layer.size, 0) ?? 0;
      const change = {
        name,
        from: a?.digest ?? null,
        to: b?.digest ?? null,
        fromSize: size(a),
        toSize: size(b),
      };
      if (a?.digest === b?.digest) return { ...change, files: { changes: [], count: 0 } };
      const [before, after] = await Promise.all([filesOfPart(blobs, a), filesOfPart(blobs, b)]);
      if (!before || !after) return { ...change, files: null };
      const changes = changesBetween(before, after, (x, y) => x.digest === y.digest);
      return { ...change, files: { changes: changes.slice(0, mostFiles), count: changes.length } };
    }),
  );
}

/** Null where bytes of it are gone. */
async function filesOfPart(
  blobs: BlobStore,
  part: ReleaseRow['parts'][number] | null,
): Promise<Map<string, PartFile> | null> {
  if (!part) return new Map();
  const layers = await Promise.all(
    part.layers.map(({ digest }) => listings.fetch(digest, { context: blobs }).catch(() => undefined)),
  );
  return layers.every((one) => one !== undefined) ? partFiles(layers as Map<string, PartFile>[]) : null;
}
