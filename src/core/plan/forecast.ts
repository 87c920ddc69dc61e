/** How long tasks should take together, and which of them the time depends on. */
export interface ForecastTask {
  name: string;
  needs: readonly string[];
  /** Milliseconds that it should take; 0 for one that is reused, null when nothing is known. */
  ms: number | null;
}

export interface Forecast {
  /** The tasks whose lengths add up to the longest way through the graph, in their order. */
  path: string[];
  /** Milliseconds with as many agents as wanted; null when nothing is known of a task on the way. */
  ms: number | null;
}

/** Tasks come with needs first. Unknown times count as 0 for the choice of the path. */
export function forecast(tasks: readonly ForecastTask[]): Forecast {
  const ends = new Map<string, { ms: number; before: string | null; known: boolean }>();
  for (const task of tasks) {
    let latest: string | null = null;
    for (const need of task.needs)
      if (ends.has(need) && (latest === null || (ends.get(need)?.ms ?? 0) > (ends.get(latest)?.ms ?? 0))) latest = need;
    const start = latest === null ? { ms: 0, known: true } : (ends.get(latest) as { ms: number; known: boolean });
    ends.set(task.name, { ms: start.ms + (task.ms ?? 0), before: latest, known: start.known && task.ms !== null });
  }
  let last: string | null = null;
  for (const [name, end] of ends) if (last === null || end.ms > (ends.get(last)?.ms ?? 0)) last = name;
  if (last === null) return { path: [], ms: 0 };
  const path: string[] = [];
  for (let at: string | null = last; at !== null; at = ends.get(at)?.before ?? null) path.unshift(at);
  const end = ends.get(last);
  return { path, ms: end?.known ? end.ms : null };
}
