/** The variables of a task. What its own resources give is known only to the agent that makes them. */
import type { Task, TaskVariable } from '../definition/model.js';

export interface TaskFacts {
  run: { commit: string; branch: string | null };
  project: { name: string };
}

export interface TaskValues {
  values: Record<string, string>;
  /** Variable → the field of a resource and what is put behind it. */
  fromResources: Record<string, Exclude<TaskVariable, string>>;
}

/** With the values of `each`; the shard's two are the agent's affair. */
export function taskValues(task: Pick<Task, 'variables' | 'each'>, facts: TaskFacts): TaskValues {
  const values: Record<string, string> = { ...task.each };
  const fromResources: TaskValues['fromResources'] = {};
  for (const [name, variable] of Object.entries(task.variables)) {
    if (typeof variable === 'string') values[name] = variable;
    else {
      const value = lookUp(variable.from, facts);
      if (value === null) fromResources[name] = variable;
      else values[name] = value + variable.then;
    }
  }
  return { values, fromResources };
}

function lookUp(reference: string, facts: TaskFacts): string | null {
  if (reference === 'run.commit') return facts.run.commit;
  if (reference === 'run.branch') return facts.run.branch ?? '';
  return reference === 'project.name' ? facts.project.name : null;
}
