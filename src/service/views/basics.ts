/** What every view is made of: issues in words, times, commits, projects, events. */
import { commitById, commitsByIds } from '../../records/projects/sources.js';
import { type Issue, wording } from '../../core/errors/errors.js';
import type { CommitFacts } from '../../git/repository.js';
import type { Db } from '../../records/database.js';
import type { EventRow } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Commit, Project } from '../../wire/projects.js';
import type { Event } from '../../wire/overview.js';
import type { Said } from '../../wire/parts.js';
import { badgeUrl } from '../badges.js';
import type { Service } from '../server.js';

export const said = (issue: Issue | null): Said | null => (issue ? { ...issue, ...wording(issue) } : null);

export const iso = (at: Date | null): string | null => at?.toISOString() ?? null;

/** A commit as git tells it. */
export const factsView = ({ id, title, author, at }: Omit<CommitFacts, 'parents'>): Commit => ({
  id,
  title,
  author,
  at: at.toISOString(),
});

export async function commitView(db: Db, project: string, id: string): Promise<Commit> {
  const row = await commitById(db, project, id);
  return { id, title: row?.title ?? '', author: row?.author ?? '', at: (row?.at ?? new Date(0)).toISOString() };
}

/** Several at once: id → commit. */
export async function commitViews(db: Db, project: string, ids: readonly string[]): Promise<(id: string) => Commit> {
  const rows = new Map((await commitsByIds(db, project, ids)).map((row) => [row.id, row]));
  return (id) => {
    const row = rows.get(id);
    return { id, title: row?.title ?? '', author: row?.author ?? '', at: (row?.at ?? new Date(0)).toISOString() };
  };
}

export function projectView(service: Service, row: ProjectRow): Project {
  const endpoint =
    row.source === 'hosted' ? `${service.url}/git/${row.name}` : `${service.url}/api/sources/${row.name}/events`;
  return {
    name: row.name,
    source: row.source,
    mainBranch: row.main_branch,
    folder: row.folder,
    url: row.url,
    endpoint,
    definitionCommit: row.definition_commit,
    draft: row.draft !== null,
    paused: row.paused_at !== null,
    protect: row.source === 'hosted' && row.protect,
    badge: badgeUrl(service, row),
    pullRequests: row.pull_refs,
    statuses: row.status_url,
    statusIssue: said(row.status_issue),
    credential: row.credential !== null,
    issue: said(row.poll_issue),
  };
}

export const eventView = (row: EventRow): Event => ({
  specversion: '1.0',
  id: row.number,
  source: row.project ? `/projects/${row.project}` : '/',
  type: `dev.tsunagi.${row.type}`,
  subject: row.subject,
  time: row.at.toISOString(),
  sequence: row.number,
  datacontenttype: 'application/json',
  data: { actor: row.actor, ...row.data },
});
