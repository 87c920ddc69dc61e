/**
 * How many of a part are wanted in an environment, and how large: what the definition says of the part, over it what the environment's
 * plan on main says, over it what a person has set; between the bounds that the definition gives, what the controller has found.
 */
import type { Auto, EnvironmentPlan, Part } from '../definition/model.js';

export interface Size {
  instances: number;
  /** What holds the number; null: it stays. */
  auto: Auto | null;
  /** Bytes that each may take; null: as an agent gives who is not asked. */
  memory: number | null;
  /** Cores that each may take; null: all that are free. */
  cpu: number | null;
}

/** Part → what a person has set of it, and what the controller has found (and when: seconds since the epoch). */
export type SetSizes = Record<string, Partial<Omit<Size, 'auto'>> & { found?: { instances: number; at: number } }>;

/** Bytes that an instance is reckoned with where nothing is said of its memory. */
export const reckonedMemory = 256 * 1024 ** 2;

/** Instances of a part that a person may ask for; none only of a worker, which then rests. */
export const mostInstances = 50;

export function sizeOf(
  part: Pick<Part, 'name' | 'instances' | 'auto' | 'memory' | 'cpu'>,
  plan: Pick<EnvironmentPlan, 'parts'>,
  set: SetSizes,
  /** It is in a review of a stranger's. */
  outside = false,
): Size {
  const planned = plan.parts[part.name];
  const own = set[part.name];
  // Whoever says a number, later or nearer, wants that number.
  const auto = own?.instances !== undefined ? null : (planned?.auto ?? (planned?.instances == null ? part.auto : null));
  const found = auto && own?.found ? Math.min(auto.max, Math.max(auto.min, own.found.instances)) : null;
  const size = {
    instances: own?.instances ?? found ?? auto?.min ?? planned?.instances ?? part.instances,
    auto,
    memory: own?.memory ?? planned?.memory ?? part.memory,
    cpu: own?.cpu ?? planned?.cpu ?? part.cpu,
  };
  if (!outside) return size;
  return {
    instances: Math.min(size.instances, outsideMost.instances),
    auto: null,
    ...boundedOutside(size),
  };
}

/** What each part of a stranger's review may have, at most: instances, bytes, cores. */
const outsideMost = { instances: 1, memory: 256 * 1024 ** 2, cpu: 0.5 };

/** What a program of a stranger's review may take of what it asks for. */
export const boundedOutside = ({ memory, cpu }: Pick<Size, 'memory' | 'cpu'>): { memory: number; cpu: number } => ({
  memory: Math.min(memory ?? outsideMost.memory, outsideMost.memory),
  cpu: Math.min(cpu ?? outsideMost.cpu, outsideMost.cpu),
});
