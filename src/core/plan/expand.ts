/** Declared tasks → the tasks of one run: left out by branch or pull request, repeated by `each`, cut by `shards`. */
import { compileGlob } from '../glob.js';
import { pullRequests, type Task, type TaskPlan, withNeeds } from '../definition/model.js';

export interface Occasion {
  branch: string | null;
  pullRequest: number | null;
}

/** Whether a task takes part in a run of this commit. */
export function takesPart(plan: Pick<TaskPlan, 'for'>, { branch, pullRequest }: Occasion): boolean {
  if (plan.for === null) return true;
  if (pullRequest !== null) return plan.for.includes(pullRequests);
  return branch !== null && plan.for.some((pattern) => pattern !== pullRequests && compileGlob(pattern, false)(branch));
}

/** With needs first. A task that needs one that is left out is left out too. */
export function expandTasks(plans: Record<string, TaskPlan>, occasion: Occasion): Task[] {
  const pieces = new Map<string, Task[]>();
  for (const name of withNeeds(plans, Object.keys(plans))) {
    const plan = plans[name] as TaskPlan;
    if (!takesPart(plan, occasion) || plan.needs.some((need) => !pieces.has(need))) continue;
    const needs = plan.needs.flatMap((need) => (pieces.get(need) as Task[]).map((one) => one.name));
    pieces.set(
      name,
      valuesOf(plan.each).flatMap((each) =>
        shardsOf(plan.shards).map((shard): Task => {
          const { shards: _, ...rest } = plan;
          const values = Object.values(each);
          return {
            ...rest,
            name: `${name}${values.length ? `[${values.join(' ')}]` : ''}${shard ? `[${shard.index}/${shard.count}]` : ''}`,
            of: name,
            needs,
            each,
            shard,
          };
        }),
      ),
    );
  }
  return [...pieces.values()].flat();
}

/** Every combination, the last variable counting fastest. */
function valuesOf(each: Record<string, string[]>): Record<string, string>[] {
  return Object.entries(each).reduce<Record<string, string>[]>(
    (all, [name, values]) => all.flatMap((one) => values.map((value) => ({ ...one, [name]: value }))),
    [{}],
  );
}

const shardsOf = (count: number | null): ({ index: number; count: number } | null)[] =>
  count === null ? [null] : Array.from({ length: count }, (_, index) => ({ index: index + 1, count }));
