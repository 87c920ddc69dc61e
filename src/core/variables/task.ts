/** The variables of a task. What its own resources give is known only to the agent that makes them. */
import { setReference, type Task, type TaskVariable } from '../definition/model.js';

/** What tasks of a run get of what is set for the project, by name: plain text, or the version and keyed hash of a secret. */
export type PinnedSet = Record<string, { value: string } | { version: number; hash: string }>;

export interface TaskFacts {
  run: { commit: string; branch: string | null };
  project: { name: string };
  set?: PinnedSet;
}

export interface TaskValues {
  values: Record<string, string>;
  /** Variable → the field of a resource and what is put behind it. */
  fromResources: Record<string, Exclude<TaskVariable, string>>;
  /** Variable → the secret that it is, known by its keyed hash. */
  secrets: Record<string, { name: string; version: number; hash: string; append: string }>;
  /** Names that people have not set. */
  unset: string[];
}

/** Names under which tasks want what people set. */
export const setNames = (task: Pick<Task, 'variables'>): string[] =>
  Object.values(task.variables).flatMap((one) =>
    typeof one === 'string' ? [] : (setReference.exec(one.from)?.[1] ?? []),
  );

/** With the values of `each`; the shard's two are the agent's affair. */
export function taskValues(task: Pick<Task, 'variables' | 'each'>, facts: TaskFacts): TaskValues {
  const values: Record<string, string> = { ...task.each };
  const fromResources: TaskValues['fromResources'] = {};
  const secrets: TaskValues['secrets'] = {};
  const unset: string[] = [];
  for (const [name, variable] of Object.entries(task.variables)) {
    if (typeof variable === 'string') {
      values[name] = variable;
      continue;
    }
    const wanted = setReference.exec(variable.from)?.[1];
    const set = wanted ? facts.set?.[wanted] : undefined;
    if (wanted && !set) unset.push(wanted);
    else if (wanted && set) {
      if ('value' in set) values[name] = set.value + variable.append;
      else secrets[name] = { name: wanted, ...set, append: variable.append };
    } else {
      const value = lookUp(variable.from, facts);
      if (value === null) fromResources[name] = variable;
      else values[name] = value + variable.append;
    }
  }
  return { values, fromResources, secrets, unset };
}

function lookUp(reference: string, facts: TaskFacts): string | null {
  if (reference === 'run.commit') return facts.run.commit;
  if (reference === 'run.branch') return facts.run.branch ?? '';
  return reference === 'project.name' ? facts.project.name : null;
}
