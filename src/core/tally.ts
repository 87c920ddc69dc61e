/** How many of something each one has open. A name is kept for as long as it has any. */
export interface Tally {
  /** Counts one more of `who` until the returned function is called, which may be called twice; null when there are `atMost` already. */
  enter(who: string): (() => void) | null;
  has(who: string): boolean;
}

export function openTally(atMost = Number.POSITIVE_INFINITY): Tally {
  const open = new Map<string, number>();
  return {
    enter(who) {
      const now = open.get(who) ?? 0;
      if (now >= atMost) return null;
      open.set(who, now + 1);
      let left = false;
      return () => {
        if (left) return;
        left = true;
        const rest = (open.get(who) ?? 1) - 1;
        if (rest > 0) open.set(who, rest);
        else open.delete(who);
      };
    },
    has: (who) => open.has(who),
  };
}
