/** Approvals: people who have looked say of these very bytes that they may go there. */
import { CodedError } from '../../core/errors/errors.js';
import { commitsBetween } from '../../git/repository.js';
import {
  addApproval,
  pushersOf,
  setAuthor,
  unsureApprovals,
  withdrawApproval,
} from '../../records/deployments/approvals.js';
import { type EnvironmentRow, findEnvironment } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { addEvidence, releaseById, type ReleaseRow } from '../../records/deployments/releases.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { makeDue } from '../../records/runs/runs.js';
import { type Context, type Db, repositoryOf } from '../context.js';
import { needRelease, openEnvironment, placeOf, refuseGone } from '../deployments/acts.js';
import { tellEvidence } from '../deployments/health.js';
import { liveRelease } from '../deployments/live.js';
import { ruled } from './rules.js';

/** Commits whose authors are looked for. */
const mostCommits = 500;

/** Who has written or pushed something that a release brings to what is live. */
export interface Writers {
  /** Names, in lower case. */
  names: ReadonlySet<string>;
  /** Commit of the release that was live; '' for none. */
  against: string;
}

export async function writtenBy(
  context: Context,
  project: ProjectRow,
  name: string,
  release: Pick<ReleaseRow, 'commit'>,
): Promise<Writers> {
  const environment = await findEnvironment(context.records, project.id, name);
  const live = environment ? await liveRelease(context.records, environment) : null;
  const commits = await commitsBetween(
    repositoryOf(context, project),
    live?.commit ?? null,
    release.commit,
    mostCommits,
  );
  const ids = commits.length ? commits.map(({ id }) => id) : [release.commit];
  const names = [...commits.map(({ author }) => author), ...(await pushersOf(context.records, project.id, ids))];
  return { names: new Set(names.map((one) => one.toLowerCase())), against: live?.commit ?? '' };
}

/**
 * Computes again whose approvals are their author's, where another release is live by now: after a revert a release brings more
 * commits. Before the transaction that judges, since git is read. What changes between the two counts as the author's.
 */
export async function settleAuthors(
  context: Context,
  project: ProjectRow,
  environment: Pick<EnvironmentRow, 'id' | 'name'>,
): Promise<void> {
  const { records } = context;
  const unsure = await unsureApprovals(records, environment.id);
  const writers = new Map<string, Writers>();
  for (const { id, release_id, name } of unsure) {
    const found =
      writers.get(release_id) ??
      (await writtenBy(context, project, environment.name, await releaseById(records, release_id)));
    writers.set(release_id, found);
    await setAuthor(records, id, found.names.has(name.toLowerCase()), found.against);
  }
}

export interface Approving {
  project: ProjectRow;
  environment: string;
  release: number;
  person: { id: string; name: string };
  writers: Writers;
}

export async function approve(context: Context, db: Db, asked: Approving): Promise<EnvironmentRow> {
  const { project, person } = asked;
  const environment = await openEnvironment(db, project, asked.environment);
  const release = await needRelease(db, project, asked.release);
  const place = placeOf(project, environment);
  refuseGone(release);
  if (release.line !== 'own') throw new CodedError('release_untrusted', { number: release.number, environment: place });
  const { rules } = await ruled(db, environment);
  if (rules.approvals === 0) throw new CodedError('approvals_none', { environment: place });
  const { names, against } = asked.writers;
  const author = names.has(person.name.toLowerCase());
  const one = { environment, release, person: person.id, author, against, after: rules.after };
  if (!(await addApproval(db, one))) return environment;
  await recordEvents(db, {
    type: 'approval.given',
    project: project.id,
    subject: `r${release.number}`,
    actor: person.name,
    data: { environment: place, digest: release.digest, author },
  });
  const evidence = await addEvidence(db, release, {
    kind: 'approval',
    name: environment.name,
    source: person.name,
    detail: { environment: environment.name, person: person.name, author, from: new Date(context.now()).toISOString() },
  });
  if (evidence) await tellEvidence(db, project, environment.name, release, evidence, person.name);
  await makeDue(db, 'environments', environment.id);
  return environment;
}

/** A person takes their own approval back; what is on its way is looked at when its traffic is to move. */
export async function withdraw(
  db: Db,
  { project, environment: name, release: number, person }: Omit<Approving, 'writers'>,
): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  const release = await needRelease(db, project, number);
  const place = placeOf(project, environment);
  if (!(await withdrawApproval(db, { environment: environment.id, release: release.id, person: person.id })))
    throw new CodedError('approval_missing', { release: `r${number}`, environment: place });
  await recordEvents(db, {
    type: 'approval.withdrawn',
    project: project.id,
    subject: `r${number}`,
    actor: person.name,
    data: { environment: place, digest: release.digest },
  });
  await makeDue(db, 'environments', environment.id);
  return environment;
}
