/**
 * Where an instance goes: to an agent that has room for it, spread over agents; one with volumes to where those are. Nothing is moved
 * that runs.
 *
 * Each that waits, in the order in which they wait, goes to the agent with the fewest of the same part of the same deployment; of those to
 * the one with the largest share of its memory left, then by name. One for which nobody has room waits, and those behind it are looked at.
 */
export interface Room {
  id: string;
  name: string;
  /** Bytes that its instances may take together; null: it does not say. */
  memory: number | null;
  /** Bytes that those it has are reckoned with. */
  taken: number;
  /** Instances that it can still take; null: it does not say. */
  places: number | null;
  /** `DEPLOYMENT PART FRESH` → how many it has: those that are to be replaced do not count. */
  has: Readonly<Record<string, number>>;
}

export interface Waiting {
  id: string;
  /** `DEPLOYMENT PART FRESH` */
  of: string;
  memory: number;
  /** Ids of the only agents that may have it, since its volumes are there; null: any. */
  only: string[] | null;
}

/** Id of an instance → id of the agent that takes it. */
export function place(waiting: readonly Waiting[], rooms: readonly Room[]): Map<string, string> {
  const state = rooms.map((room) => ({ ...room, has: { ...room.has } as Record<string, number> }));
  const placed = new Map<string, string>();
  for (const one of waiting) {
    const [best] = state
      .filter((room) => mayHave(one, room))
      .filter((room) => room.places !== 0 && (room.memory === null || room.memory - room.taken >= one.memory))
      .sort(
        (a, b) =>
          (a.has[one.of] ?? 0) - (b.has[one.of] ?? 0) || shareLeft(b) - shareLeft(a) || (a.name < b.name ? -1 : 1),
      );
    if (!best) continue;
    best.taken += one.memory;
    best.has[one.of] = (best.has[one.of] ?? 0) + 1;
    if (best.places !== null) best.places--;
    placed.set(one.id, best.id);
  }
  return placed;
}

/** Share of an agent's memory that is left; all of it where it does not say. */
export const shareLeft = ({ memory, taken }: Pick<Room, 'memory' | 'taken'>): number =>
  memory ? (memory - taken) / memory : 1;

/** Whether its volumes let an agent have it. */
export const mayHave = ({ only }: Pick<Waiting, 'only'>, { id }: Pick<Room, 'id'>): boolean =>
  only === null || only.includes(id);

/** The most that any agent could give to one more instance, or null where one does not say. */
export function largestRoom(rooms: readonly Room[]): number | null {
  if (rooms.some((room) => room.memory === null && room.places !== 0)) return null;
  return Math.max(0, ...rooms.filter((room) => room.places !== 0).map((room) => (room.memory ?? 0) - room.taken));
}
