/**
 * `step_run` (008): an attempt's end reaches every run that takes part in it, also one that has begun to a moment before.
 *
 * Whoever joins an attempt locks its row; whoever ends it changes that row. So the tasks that take part are asked for after the row is
 * had, by a statement of its own: the snapshot of one that waited for the lock is older than what it waited for.
 */
export const name = '034-shared-ends';
export const up = `
do $patch$
declare
  body text := pg_get_functiondef('step_run(uuid, bigint, jsonb)'::regprocedure);
  patched text;
begin
  -- "shared" was true, and is now a list: the runs that take this end in the same transaction. Services of before still say true.
  patched := replace(body, $old$if not (p ? 'shared') and exists (select 1 from tasks t where t.attempt_id = (one->>'attempt')::uuid
        and t.run_id <> p_run and t.state in ('ready', 'running')) then$old$,
    $new$if p->'shared' is distinct from 'true' and exists (select 1 from tasks t where t.attempt_id = (one->>'attempt')::uuid
        and t.run_id <> p_run and t.state in ('ready', 'running')
        and not coalesce(p->'shared', '[]') ? t.run_id::text) then$new$);
  if patched = body then raise exception 'step_run is not as it was'; end if;
  body := patched;
  patched := replace(body, $old$    -- Before anything is claimed: what comes to nothing is not to be begun.
$old$, $new$    -- Whoever has just joined one of these is waited for, and seen.
    perform 1 from attempts a
    where a.state = 'waiting' and a.id in (select t.attempt_id from tasks t where t.id in (select u::uuid from jsonb_array_elements_text(p->'cut') u))
    order by a.id for update;
    -- Before anything is claimed: what comes to nothing is not to be begun.
$new$);
  if patched = body then raise exception 'step_run is not as it was'; end if;
  execute patched;
end $patch$;
`;
