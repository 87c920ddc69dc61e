/** Sources elsewhere: looking at them regularly, and a first look before there is a project. */
import { backoff } from '../../core/backoff.js';
import { createHash } from 'node:crypto';
import { rm, stat, utimes } from 'node:fs/promises';
import { readdirSync } from 'node:fs';
import { join } from 'node:path';
import { CodedError, issue, type Issue } from '../../core/errors/errors.js';
import { hintFor } from '../../core/nearest.js';
import { readPullRefs } from '../../core/pull-refs.js';
import type { Answers, Proposal } from '../../core/recognise/model.js';
import { recognise, textLimit, wantedTexts } from '../../core/recognise/recognise.js';
import { closeObjects } from '../../git/objects.js';
import { type Credential, gitRemote, listRemote, type RemoteBranches } from '../../git/remote.js';
import {
  branches,
  commitFacts,
  type CommitFacts,
  fetchAll,
  listFiles,
  makeRepository,
  readFile,
} from '../../git/repository.js';
import { recordEvents } from '../../records/events.js';
import { nextPoll, type Polled, settlePoll, takePoll } from '../../records/projects/projects.js';
import { type Context, ensureRepository } from '../context.js';
import { type Lanes, openLanes } from '../lanes.js';
import { knownHosts, remoteOf } from './credentials.js';
import { lookAtPulls } from './pulled.js';
import { compareBranches, sourceLanes } from './sources.js';

/** Milliseconds between two looks, the longest pause after failures, and how far each may be off, so that not all come at once. */
const jitter = 0.15;

const spread = (ms: number): number => Math.round(ms * (1 - jitter + 2 * jitter * Math.random()));

/** Milliseconds after which a look that died is taken over. */
const pollLeaseMs = 180_000;

/** Looks at polled sources whose turn it is, several at a time: one that does not answer delays only itself. */
export function pollLanes(context: Context, free: () => void): Lanes & { due(): Promise<number | null> } {
  const looking = new Set<string>();
  const lanes = openLanes<Polled>({
    name: 'source',
    count: sourceLanes,
    take: () => takePoll(context.records, pollLeaseMs, [...looking]),
    async work(project) {
      looking.add(project.id);
      await pollSource(context, project).finally(() => looking.delete(project.id));
    },
    free,
    log: context.log,
  });
  return { ...lanes, due: () => nextPoll(context.records, [...looking]) };
}

/** Fetches only when a branch has another head there than is recorded. */
async function pollSource(context: Context, project: Polled): Promise<void> {
  const { records } = context;
  try {
    const repository = await ensureRepository(context, project);
    const remote = remoteOf(context, project);
    const refs = project.pull_refs === null ? null : readPullRefs(project.pull_refs);
    const { branches: there, pulls } = await listRemote(repository, remote, refs);
    const here = await branches(repository);
    const same = there.size === here.size && [...there].every(([name, head]) => here.get(name) === head);
    if (!same) await fetchAll(repository, remote);
    await compareBranches(context, project, 'a look at its source');
    const more = refs !== null && (await lookAtPulls(context, project, refs, pulls));
    await settlePoll(records, project, more ? 0 : spread(backoff('source', 1)), 0, null);
  } catch (error) {
    if (!(error instanceof CodedError)) {
      await settlePoll(records, project, spread(backoff('source', 1)), project.poll_failures + 1, null);
      throw error;
    }
    const failures = project.poll_failures + 1;
    await records.transition('source.failing', async (db) => {
      await settlePoll(db, project, spread(backoff('source', failures)), failures, error.issue);
      // Said once, when it begins; the project shows it until it is over.
      if (project.poll_issue?.code !== error.issue.code)
        await recordEvents(db, {
          type: 'source.failing',
          project: project.id,
          subject: project.name,
          actor: 'engine',
          data: { issue: error.issue },
        });
    });
  }
}

/** A repository of its own for looking at what is not a project yet; kept for a while, so that the next look is quick. */
async function scratch(context: Context, url: string): Promise<string> {
  const folder = join(context.repositories, '..', 'scratch');
  const path = join(folder, `${createHash('sha256').update(url).digest('hex').slice(0, 32)}.git`);
  await makeRepository(path, 'main');
  const now = new Date();
  await utimes(path, now, now).catch(() => {});
  return path;
}

const scratchMs = 3_600_000;

/** Removes what has not been looked at for an hour. */
export async function sweepScratch(context: Context): Promise<void> {
  const folder = join(context.repositories, '..', 'scratch');
  let names: string[];
  try {
    names = readdirSync(folder);
  } catch {
    return;
  }
  for (const name of names) {
    const path = join(folder, name);
    const { mtimeMs } = await stat(path).catch(() => ({ mtimeMs: Date.now() }));
    if (Date.now() - mtimeMs < scratchMs) continue;
    closeObjects(path);
    await rm(path, { recursive: true, force: true });
  }
}

export interface Look {
  url: string;
  credential: Credential | null;
  privateAllowed: boolean;
}

/** The branches of a repository that is not a project yet: its address and credential are tried by this. One without any is an error unless it may be `empty`. */
export async function lookAtSource(context: Context, look: Look, { empty = false } = {}): Promise<RemoteBranches> {
  const found = await listRemote(await scratch(context, look.url), { ...look, knownHosts: knownHosts(context) });
  if (found.branches.size === 0 && !empty) throw new CodedError('source_empty', { url: look.url });
  return found;
}

export interface Recognised {
  commit: CommitFacts;
  branch: string;
  folder: string;
  /** Whether the commit has a definition of its own there. */
  hasDefinition: boolean;
  /** The text of that, where it can be read. */
  own: string | null;
  proposal: Proposal;
}

/** Fetches one branch of it and proposes a definition. */
export async function recogniseSource(
  context: Context,
  look: Look,
  branch: string | null,
  answers: Answers,
): Promise<Recognised> {
  const remote = { ...look, knownHosts: knownHosts(context) };
  const { branches: there, main } = await lookAtSource(context, look);
  const name = branch ?? main ?? [...there.keys()][0] ?? '';
  const head = there.get(name);
  if (!head)
    throw new CodedError('branch_unknown', {
      url: look.url,
      branch: name.slice(0, 100),
      hint: hintFor(name, [...there.keys()]),
    });
  const repository = await scratch(context, look.url);
  await gitRemote(repository, remote, (url) => [
    'fetch',
    '-q',
    '--no-tags',
    '--no-auto-gc',
    '--depth=1',
    '--end-of-options',
    url,
    `+refs/heads/${name}:refs/heads/${name}`,
  ]);
  return recogniseCommit(context, repository, head, name, answers);
}

/** Paths that are looked through at once. */
const fewPaths = 5_000;

/** Proposes a definition for a commit of a repository that is here. */
export async function recogniseCommit(
  context: Pick<Context, 'apart'>,
  repository: string,
  commit: string,
  branch: string,
  answers: Answers,
): Promise<Recognised> {
  const facts = await commitFacts(repository, commit);
  if (!facts) throw new CodedError('commit_absent', { commit, url: branch });
  const wantedFolder = (answers.folder ?? '').replace(/^\.$|^\.\/|\/$/g, '');
  const listed = await listFiles(repository, commit, '');
  const paths = listed.flatMap((file) => (file.path === null || !file.mode.startsWith('100') ? [] : [file.path]));
  if (wantedFolder && !paths.some((path) => path.startsWith(`${wantedFolder}/`)))
    throw new CodedError('folder_unknown', {
      branch,
      folder: wantedFolder.slice(0, 200),
      hint: hintFor(wantedFolder, foldersOf(paths)),
    });
  const texts = new Map<string, string>();
  const decoder = new TextDecoder('utf-8', { fatal: true });
  const wanted = [
    ...new Set([
      ...wantedTexts(paths),
      ...(wantedFolder ? wantedTexts(paths.filter((path) => path.startsWith(`${wantedFolder}/`))) : []),
    ]),
  ];
  const bodies = await Promise.all(wanted.map((path) => readFile(repository, commit, path, textLimit)));
  for (const [at, body] of bodies.entries()) {
    if (!(body instanceof Buffer)) continue;
    try {
      texts.set(wanted[at] as string, decoder.decode(body));
    } catch {
      // A source that is not UTF-8 says nothing here; a task may read it all the same.
    }
  }
  const asked = wantedFolder ? { ...answers, folder: wantedFolder } : answers;
  const proposal =
    paths.length <= fewPaths
      ? recognise({ paths, texts }, asked)
      : await context.apart.run('recognise', repository, { paths, texts, answers: asked });
  const folder = proposal.found[0]?.folder ?? wantedFolder;
  const notes: Issue[] = [...proposal.notes];
  const submodule = listed.find((file) => file.mode === '160000');
  if (submodule) notes.push(issue('recognise_submodule', { path: submodule.shown }));
  const pointer = [...texts].find(([, text]) => text.startsWith('version https://git-lfs.'))?.[0];
  if (pointer || paths.includes('.gitattributes')) {
    const attributes = await readFile(repository, commit, '.gitattributes', 65_536);
    const large = attributes instanceof Buffer && /^[^#\n]*\sfilter=/m.test(attributes.toString('utf8'));
    if (pointer || large) notes.push(issue('recognise_filtered', { file: pointer ?? '.gitattributes' }));
  }
  const path = folder ? `${folder}/tsunagi.yaml` : 'tsunagi.yaml';
  const own = paths.includes(path) ? await readFile(repository, commit, path, textLimit) : null;
  return {
    commit: facts,
    branch,
    folder,
    hasDefinition: paths.includes(path),
    own: own instanceof Buffer ? own.toString('utf8') : null,
    proposal: { ...proposal, notes },
  };
}

const foldersOf = (paths: readonly string[]): string[] =>
  [...new Set(paths.filter((path) => path.includes('/')).map((path) => path.slice(0, path.lastIndexOf('/'))))].slice(
    0,
    2_000,
  );
