/**
 * Coverage of tasks, indexes for the board, and what is stored under the definition's new words: `append` (was `then`), `untrusted` (was `strangers`),
 * `results` (was `junit`), `for` (was `branches` and `pullRequests`). Definitions themselves are completed when they are read.
 */
export const name = '007-words';
export const up = `
-- Lines of the project's files that an attempt has run; deleted with it.
create table coverage (
  attempt_id uuid primary key references attempts on delete cascade,
  found int not null,
  hit int not null,
  files jsonb not null
);

-- The newest run of a branch, without looking at those of others.
create index runs_newest on runs (project_id, branch, id desc);
-- What is on its way, of all that ever was.
create index deployments_moving on deployments (environment_id, number)
  where state in ('queued', 'preparing', 'starting', 'cutover', 'verifying');

-- A map from the name of a variable to text, or to what is said of it.
create function pg_temp.renamed(variables jsonb) returns jsonb language sql immutable as $body$
  select coalesce(jsonb_object_agg(key, case
      when jsonb_typeof(one) <> 'object' then one
      else (one - 'then' - 'strangers')
        || case when one ? 'then' then jsonb_build_object('append', one->'then') else '{}' end
        || case when one ? 'strangers' then jsonb_build_object('untrusted', one->'strangers') else '{}' end
    end), '{}')
  from jsonb_each(variables) as each(key, one)
$body$;
update tasks set model = (model - 'junit' - 'branches' - 'pullRequests') || jsonb_build_object(
  'results', model->'junit',
  'coverage', null,
  'for', null,
  'variables', pg_temp.renamed(coalesce(model->'variables', '{}')));
update tasks set pinned = jsonb_set(pinned, '{set,secrets}', pg_temp.renamed(pinned#>'{set,secrets}'))
  where pinned#>'{set,secrets}' is not null;
update deployments set
  secrets = pg_temp.renamed(secrets),
  environment_plan = (environment_plan - 'opens') || jsonb_build_object(
    'for', case when environment_plan->>'opens' is null then null else 'pull requests' end,
    'promotion', case environment_plan->>'promotion' when 'asked' then 'manual' else environment_plan->>'promotion' end);
update releases set plan = jsonb_set(plan, '{variables}', pg_temp.renamed(plan->'variables')) where plan ? 'variables';
`;
