/** Reviews that are open, and pull requests that have none: what each is of, and how its newest commit went. */
import { type Db, query } from '../database.js';

export interface ReviewFacts {
  project_id: string;
  project: string;
  /** `pr-214`, `on-winter`: the name of its environment, whether it has one or not. */
  name: string;
  number: number | null;
  branch: string | null;
  title: string | null;
  base: string | null;
  head: string | null;
  trusted: boolean | null;
  draft: boolean | null;
  /** Its newest run. */
  run: string | null;
  /** Tests of that run; null where none told any. */
  passed: number | null;
  failed: number | null;
  /** The first that failed. */
  failing: string | null;
  /** What its databases began as copies of; `of`: the moment of the data, null where it began empty, or waits. */
  data: { name: string; copy: string; of: string | null }[];
}

/** Of one project, or (`null`) of all; of one pull request alone where it is named. */
export const reviewFacts = (db: Db, project: string | null, pull: number | null = null): Promise<ReviewFacts[]> =>
  query(
    db,
    `with open as (
       select project_id, name, pull_request as number, branch from environments
       where kind = 'review' and state <> 'closed' and ($1::uuid is null or project_id = $1) and ($2::int is null or pull_request = $2)
       union
       select project_id, 'pr-' || number, number, null from pull_requests
       where state = 'open' and head <> '' and ($1::uuid is null or project_id = $1) and ($2::int is null or number = $2)
     )
     select o.project_id, p.name as project, o.name, o.number, o.branch, q.title, q.base, q.head, q.trusted, q.draft, r.id as run,
       t.passed, t.failed,
       case when t.failed > 0 then (
         select c->>'name' from tasks f, jsonb_array_elements(f.tests->'cases') c
         where f.run_id = r.id and c->>'state' = 'failed' limit 1) end as failing,
       coalesce((
         select jsonb_agg(jsonb_build_object('name', d.name, 'copy', d.origin->>'copy', 'of', d.data_of) order by d.name)
         from environments e join resources d on d.environment_id = e.id
         where e.project_id = o.project_id and e.name = o.name and d.state <> 'removed' and d.origin is not null), '[]') as data
     from open o join projects p on p.id = o.project_id and p.removed_at is null
       left join pull_requests q on q.project_id = o.project_id and q.number = o.number
       left join lateral (
         select id from runs
         where project_id = o.project_id and case when o.number is null then branch = o.branch else pull_request = o.number end
         order by id desc limit 1
       ) r on true
       left join lateral (
         select sum((tests->>'passed')::int)::int as passed, sum((tests->>'failed')::int)::int as failed
         from tasks where run_id = r.id and tests is not null
       ) t on true
     order by p.name, o.number desc nulls last, o.name`,
    [project, pull],
  );
