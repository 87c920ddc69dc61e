/** What owners change about projects, and the key of everything that is encrypted. */
import { rm } from 'node:fs/promises';
import { pageNames } from '../../core/names.js';
import { CodedError } from '../../core/errors/errors.js';
import { closeObjects } from '../../git/objects.js';
import { checkedAddress, parseRemote } from '../../git/remote.js';
import { recordEvents } from '../../records/events.js';
import { findProject, type ProjectRow, projectById, removedProjects, setStatusUrl } from '../../records/projects.js';
import { askStop, makeDue } from '../../records/runs.js';
import { allSealed, sealAgain } from '../../records/variables.js';
import { type Context, type Db, repositoryOf } from '../context.js';
import { sealCredential } from '../sources/credentials.js';

/** Encrypts everything anew. What another service encrypts meanwhile with the old key waits at the lock, or is read with it. */
export async function rotateKey(context: Context, db: Db, actor: string): Promise<number> {
  await db.rows('lock table variables, projects, answers in exclusive mode');
  context.keys.renew();
  const rows = await allSealed(db);
  for (const row of rows) await sealAgain(db, row, context.keys.encrypt(context.keys.decrypt(row.sealed)));
  const secrets = rows.filter((row) => row.table !== 'answers').length;
  await recordEvents(db, {
    type: 'key.rotated',
    project: null,
    subject: 'the key of secrets',
    actor,
    data: { sealed: secrets },
  });
  return secrets;
}

/** What goes with a project that is removed. */
export interface Removal {
  environments: string[];
  addresses: string[];
  runs: number;
  releases: number;
  variables: number;
}

export interface ProjectChanges {
  name?: string;
  paused?: boolean;
  url?: string;
  credential?: Parameters<typeof sealCredential>[1];
  statuses?: string | null;
}

export async function changeProject(
  context: Context,
  db: Db,
  project: ProjectRow,
  change: ProjectChanges,
  actor: string,
): Promise<ProjectRow> {
  const { name, paused, url, credential, statuses } = change;
  const event = (
    type: 'project.renamed' | 'project.paused' | 'project.resumed' | 'project.changed',
    data: Record<string, unknown> = {},
  ) => recordEvents(db, { type, project: project.id, subject: name ?? project.name, actor, data });
  if (name !== undefined && name !== project.name) {
    if (pageNames.has(name)) throw new CodedError('name_unusable', { name });
    if (await findProject(db, name)) throw new CodedError('name_taken', { what: 'project', name });
    await db.rows('update projects set name = $2 where id = $1', [project.id, name]);
    await event('project.renamed', { from: project.name });
  }
  if (url !== undefined) {
    if (project.source === 'hosted') throw new CodedError('body_invalid', { detail: 'a hosted project has no url.' });
    parseRemote(url);
    await db.rows('update projects set url = $2, poll_issue = null where id = $1', [project.id, url]);
    await event('project.changed', { url });
  }
  if (credential !== undefined) {
    await db.rows('update projects set credential = $2, poll_issue = null where id = $1', [
      project.id,
      sealCredential(context.keys, credential),
    ]);
    await event('project.changed', { credential: credential ? 'set' : 'removed' });
  }
  if (url !== undefined || credential !== undefined)
    await db.rows(`update projects set poll_at = now() where id = $1 and source = 'polled'`, [project.id]);
  if (statuses !== undefined) {
    if (statuses !== null && !project.event_secret)
      throw new CodedError('body_invalid', {
        detail: 'only projects of a code host tell it their states: they share a secret with it.',
      });
    if (statuses !== null && !/^https?:/.test(statuses))
      throw new CodedError('url_refused', { url: statuses.slice(0, 200), why: 'states are told over http or https.' });
    if (statuses !== null) await checkedAddress(parseRemote(statuses), project.private_allowed);
    await setStatusUrl(db, project.id, statuses);
    await event('project.changed', { statuses: statuses ?? 'nowhere' });
  }
  if (paused !== undefined && paused !== (project.paused_at !== null)) {
    await db.rows(`update projects set paused_at = ${paused ? 'now()' : 'null'} where id = $1`, [project.id]);
    await event(paused ? 'project.paused' : 'project.resumed');
    if (!paused) {
      await db.rows(`update projects set poll_at = now() where id = $1 and source = 'polled'`, [project.id]);
      for (const { id } of await db.rows<{ id: string }>(
        `select id from runs where project_id = $1 and state = 'waiting' order by id`,
        [project.id],
      ))
        await makeDue(db, 'runs', id);
    }
  }
  return projectById(db, project.id);
}

export async function removalOf(db: Db, project: ProjectRow): Promise<Removal> {
  const count = async (sql: string) => Number((await db.one<{ n: string }>(sql, [project.id]))?.n ?? 0);
  const environments = await db.rows<{ name: string; host: string }>(
    `select name, host from environments where project_id = $1 and state <> 'closed' order by name`,
    [project.id],
  );
  return {
    environments: environments.map((one) => one.name),
    addresses: environments.map((one) => one.host),
    runs: await count('select count(*) as n from runs where project_id = $1'),
    releases: await count('select count(*) as n from releases where project_id = $1 and gone_at is null'),
    variables: await count(
      `select count(distinct (scope, name)) as n from variables where project_id = $1 and not removed`,
    ),
  };
}

/** Ends what runs and what is live, and frees the name. The record of what happened stays. */
export async function removeProject(db: Db, project: ProjectRow, actor: string): Promise<Removal> {
  const removal = await removalOf(db, project);
  for (const { id } of await db.rows<{ id: string }>(
    `select id from runs where project_id = $1 and state in ('waiting', 'running') order by id`,
    [project.id],
  ))
    await askStop(db, id, 'the removal of its project');
  const closing = await db.rows<{ id: string }>(
    `update environments set state = 'closing' where project_id = $1 and state not in ('closing', 'closed') returning id`,
    [project.id],
  );
  for (const { id } of closing) await makeDue(db, 'environments', id);
  await db.rows('update variables set sealed = null, value = null, removed = true where project_id = $1', [project.id]);
  await db.rows('update tokens set removed_at = now() where project_id = $1 and removed_at is null', [project.id]);
  await db.rows(
    `update projects set name = id::text, removed_at = now(), credential = null, event_secret = null, draft = null, poll_at = null where id = $1`,
    [project.id],
  );
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
