import type { Definition } from '../core/definition/model.js';
import type { PlannedTask } from '../core/plan/plan.js';

/** The tools that a run's agent must have: those that the definition names, and what its resources are made of. */
export const neededTools = (model: Definition, tasks: readonly PlannedTask[]): Record<string, string> => ({
  ...Object.fromEntries(tasks.flatMap((one) => Object.values(one.task.resources).map((kind) => [kind, '*']))),
  ...model.versions,
});
