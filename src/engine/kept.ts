/** Values that never change once they are there, kept for the keys that were asked for last. A failure is not kept. */
export interface Kept<T> {
  get(key: string, make: () => Promise<T>): Promise<T>;
}

export function keepNewest<T>(limit: number): Kept<T> {
  const values = new Map<string, Promise<T>>();
  return {
    get(key, make) {
      const known = values.get(key);
      const value = known ?? make();
      // The newest stand last.
      values.delete(key);
      values.set(key, value);
      if (!known) value.catch(() => values.delete(key));
      for (const oldest of values.keys()) if (values.size > limit) values.delete(oldest);
      return value;
    },
  };
}
