/** What owners change about projects. */
import { closeEnvironments } from '../../records/deployments/environments.js';
import { rm } from 'node:fs/promises';
import { pageNames } from '../../core/names.js';
import { readPullRefs } from '../../core/pull-refs.js';
import { CodedError } from '../../core/errors/errors.js';
import { closeObjects } from '../../git/objects.js';
import { checkedAddress, parseRemote } from '../../git/remote.js';
import { recordEvents } from '../../records/events.js';
import {
  findProject,
  type ProjectRow,
  projectById,
  removedProjects,
  setStatusUrl,
  type Removal,
  forgetProject,
  pollNow,
  removalOf,
  setProject,
} from '../../records/projects/projects.js';
import { setPullRefs } from '../../records/projects/pulled.js';
import { askStop, makeDue, openRuns } from '../../records/runs/runs.js';
import { type Context, type Db, repositoryOf } from '../context.js';
import { sealCredential } from '../sources/credentials.js';

export interface ProjectChanges {
  name?: string;
  paused?: boolean;
  url?: string;
  credential?: Parameters<typeof sealCredential>[2];
  statuses?: string | null;
  pullRequests?: string | null;
  protect?: boolean;
}

export async function changeProject(
  context: Context,
  db: Db,
  project: ProjectRow,
  change: ProjectChanges,
  actor: string,
): Promise<ProjectRow> {
  const { name, paused, url, credential, statuses, pullRequests, protect } = change;
  const event = (
    type: 'project.renamed' | 'project.paused' | 'project.resumed' | 'project.changed',
    data: Record<string, unknown> = {},
  ) => recordEvents(db, { type, project: project.id, subject: name ?? project.name, actor, data });
  if (name !== undefined && name !== project.name) {
    if (pageNames.has(name)) throw new CodedError('name_unusable', { name });
    if (await findProject(db, name)) throw new CodedError('name_taken', { what: 'project', name });
    await setProject(db, project.id, { name });
    await event('project.renamed', { from: project.name });
  }
  if (url !== undefined) {
    if (project.source === 'hosted') throw new CodedError('body_invalid', { detail: 'a hosted project has no url.' });
    parseRemote(url);
    await setProject(db, project.id, { url, poll_issue: null });
    await event('project.changed', { url });
  }
  if (credential !== undefined) {
    await setProject(db, project.id, {
      credential: sealCredential(context.keys, project.id, credential),
      poll_issue: null,
    });
    await event('project.changed', { credential: credential ? 'set' : 'removed' });
  }
  if (url !== undefined || credential !== undefined) await pollNow(db, project.id);
  if (statuses !== undefined) {
    if (statuses !== null && !project.event_secret)
      throw new CodedError('body_invalid', {
        detail: 'only projects of a code host tell it their states: they share a secret with it.',
      });
    if (statuses !== null && !/^https?:/.test(statuses))
      throw new CodedError('url_refused', { url: statuses.slice(0, 200), why: 'states are told over http or https.' });
    if (statuses !== null) await checkedAddress(parseRemote(statuses), project.private_allowed);
    await setStatusUrl(db, project.id, statuses, actor);
    await event('project.changed', { statuses: statuses ?? 'none' });
  }
  if (pullRequests !== undefined) {
    if (project.source !== 'polled')
      throw new CodedError('body_invalid', { detail: 'only a source that is looked at has refs of pull requests.' });
    if (pullRequests !== null && readPullRefs(pullRequests) === null)
      throw new CodedError('pull_refs_wrong', { pattern: pullRequests.slice(0, 200) });
    await setPullRefs(db, project.id, pullRequests);
    await event('project.changed', { pullRequests: pullRequests ?? 'none' });
    await pollNow(db, project.id);
  }
  if (protect !== undefined && protect !== project.protect) {
    if (project.source !== 'hosted')
      throw new CodedError('body_invalid', { detail: 'its code host decides what a push may do to its branches.' });
    await setProject(db, project.id, { protect });
    await event('project.changed', { protect: protect ? 'on' : 'off' });
  }
  if (paused !== undefined && paused !== (project.paused_at !== null)) {
    await setProject(db, project.id, { paused_at: paused ? new Date(context.now()) : null });
    await event(paused ? 'project.paused' : 'project.resumed');
    if (!paused) {
      await pollNow(db, project.id);
      for (const id of await openRuns(db, project.id, { state: 'waiting' })) await makeDue(db, 'runs', id);
    }
  }
  return projectById(db, project.id);
}

/** Ends what runs and what is live, and frees the name. The record of what happened stays. */
export async function removeProject(db: Db, project: ProjectRow, actor: string): Promise<Removal> {
  const removal = await removalOf(db, project);
  for (const id of await openRuns(db, project.id)) await askStop(db, id, 'the removal of its project');
  for (const { id } of await closeEnvironments(db, project.id)) await makeDue(db, 'environments', id);
  await forgetProject(db, project.id);
  await recordEvents(db, {
    type: 'project.removed',
    project: project.id,
    subject: project.name,
    actor,
    data: { runs: removal.runs, releases: removal.releases },
  });
  return removal;
}

/** Removes the repositories of projects that are gone, once nothing of them is live. */
export async function sweepRemoved(context: Context): Promise<void> {
  for (const project of await removedProjects(context.records)) {
    const path = repositoryOf(context, project);
    closeObjects(path);
    await rm(path, { recursive: true, force: true });
  }
}
