/**
 * How many of a part are wanted in an environment, and how large: what the definition says of the part, over it what the environment's
 * plan on main says, over it what a person has set.
 */
import type { EnvironmentPlan, Part } from '../definition/model.js';

export interface Size {
  instances: number;
  /** Bytes that each may take; null: as an agent gives who is not asked. */
  memory: number | null;
  /** Cores that each may take; null: all that are free. */
  cpu: number | null;
}

/** Part → what a person has set of it. */
export type SetSizes = Record<string, Partial<Size>>;

/** Bytes that an instance is reckoned with where nothing is said of its memory. */
export const reckonedMemory = 256 * 1024 ** 2;

/** Instances of a part that a person may ask for; none only of a worker, which then rests. */
export const mostInstances = 50;

export function sizeOf(
  part: Pick<Part, 'name' | 'instances' | 'memory' | 'cpu'>,
  plan: Pick<EnvironmentPlan, 'parts'>,
  set: SetSizes,
): Size {
  const planned = plan.parts[part.name];
  const own = set[part.name];
  return {
    instances: own?.instances ?? planned?.instances ?? part.instances,
    memory: own?.memory ?? planned?.memory ?? part.memory,
    cpu: own?.cpu ?? planned?.cpu ?? part.cpu,
  };
}
