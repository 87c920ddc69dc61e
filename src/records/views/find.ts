/** What somebody may mean by a few characters: projects, environments, reviews, runs, releases. */
import { type Db, query } from '../database.js';

export interface FoundRow {
  kind: 'project' | 'environment' | 'run' | 'release';
  project: string;
  /** Name of the environment, number of the run or release. */
  name: string;
  about: string;
  state: string | null;
}

/** How many of the newest runs and releases are looked through for words of their commits' titles. */
const recent = 2_000;
const each = 8;

/** The best matches, the likeliest first; `only` is the id of the one project that the caller may see. */
export async function find(db: Db, text: string, only: string | null): Promise<FoundRow[]> {
  const plain = text.replace(/^(run|release)\s+/i, '');
  const number = /^(?:r|pr-)?(\d{1,9})$/i.exec(plain)?.[1] ?? null;
  const commit = /^[0-9a-f]{4,64}$/i.test(plain) ? `${plain.toLowerCase()}%` : null;
  // Each word may be cut short: `berths prod` is berths/production.
  const part = `%${text
    .replace(/[\\%_]/g, '\\$&')
    .split(/\s+/)
    .join('%')}%`;
  const wants = { release: /^r\d/i.test(plain) || /^release\s/i.test(text), review: /^pr-/i.test(plain) };
  const bind = [part, only];
  const [projects, environments, runs, releases] = await Promise.all([
    query<FoundRow>(
      db,
      `select 'project' as kind, name as project, name, source || ' · ' || main_branch as about, null as state from projects
       where name ilike $1 and ($2::uuid is null or id = $2) order by length(name), name limit ${each}`,
      bind,
    ),
    query<FoundRow>(
      db,
      `select 'environment' as kind, p.name as project, e.name, coalesce(q.title, e.state) as about, case e.state when 'live' then e.health else e.state end as state
       from environments e join projects p on p.id = e.project_id left join pull_requests q on q.project_id = e.project_id and q.number = e.pull_request
       where e.state <> 'closed' and (p.name || '/' || e.name ilike $1 or q.title ilike $1) and ($2::uuid is null or p.id = $2)
       order by e.kind desc, length(e.name), e.name limit ${each}`,
      bind,
    ),
    query<FoundRow>(
      db,
      `select 'run' as kind, p.name as project, r.number::text as name, coalesce(c.title, '') as about, r.state
       from (select * from runs where ($2::uuid is null or project_id = $2) and ($3::int is null and $4::text is null or number = $3 or commit like $4) order by id desc limit ${recent}) r
         join projects p on p.id = r.project_id left join commits c on c.project_id = r.project_id and c.id = r.commit
       where $3::int is not null or $4::text is not null or c.title ilike $1 or r.branch ilike $1 order by r.id desc limit ${each}`,
      [...bind, wants.release || wants.review ? -1 : number, commit],
    ),
    query<FoundRow>(
      db,
      `select 'release' as kind, p.name as project, l.number::text as name, coalesce(c.title, '') as about, null as state
       from (select * from releases where ($2::uuid is null or project_id = $2) and ($3::int is null and $4::text is null or number = $3 or commit like $4) order by id desc limit ${recent}) l
         join projects p on p.id = l.project_id left join commits c on c.project_id = l.project_id and c.id = l.commit
       where $1::text is not null and ($3::int is not null or $4::text is not null) order by l.id desc limit ${each}`,
      [...bind, wants.review ? -1 : number, commit],
    ),
  ]);
  return [...projects, ...environments, ...(wants.release ? [...releases, ...runs] : [...runs, ...releases])];
}
