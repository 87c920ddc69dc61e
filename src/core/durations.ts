const units: Record<string, number> = { s: 1000, m: 60_000, h: 3_600_000, d: 86_400_000 };

/** `90s`, `10m`, `2h`, `3d` as milliseconds, or null if it is no duration. */
export function parseDuration(text: string): number | null {
  const found = /^([1-9]\d{0,6})([smhd])$/.exec(text);
  return found ? Number(found[1]) * (units[found[2] as string] as number) : null;
}

/** A length of time (milliseconds) in words for people: `0.2 s`, `41 s`, `1 min 12 s`, `2 h 10 min`, `3 days`. */
export function durationText(ms: number): string {
  if (ms < 9_950) return `${(ms / 1000).toFixed(1)} s`;
  if (ms < 59_500) return `${Math.round(ms / 1000)} s`;
  if (ms < 3_570_000) {
    const seconds = Math.round(ms / 1000);
    return seconds % 60 ? `${Math.floor(seconds / 60)} min ${seconds % 60} s` : `${seconds / 60} min`;
  }
  const minutes = Math.round(ms / 60_000);
  if (minutes < 48 * 60)
    return minutes % 60 ? `${Math.floor(minutes / 60)} h ${minutes % 60} min` : `${minutes / 60} h`;
  return `${Math.round(minutes / 1440)} days`;
}

/** The same as a definition writes it: `10m`. */
export function durationSource(ms: number): string {
  for (const [unit, size] of Object.entries(units).reverse()) if (ms % size === 0) return `${ms / size}${unit}`;
  return `${Math.ceil(ms / 1000)}s`;
}

/** `800ms`, `2s` → milliseconds; null when it is none. */
export function parseShortTime(text: string): number | null {
  const found = /^([1-9]\d{0,6})(ms|s)$/.exec(text);
  return found ? Number(found[1]) * (found[2] === 's' ? 1_000 : 1) : null;
}
