const longest = 80;
const mostNames = 2_000;

/** The name among `names` that is nearest to `name` by edits, or null when none is near enough to be meant. */
export function nearest(name: string, names: readonly string[]): string | null {
  // Nobody mistypes a longer one; comparing them takes their lengths multiplied.
  if (name.length > longest) return null;
  // Of one character every other one is an edit away.
  if (name.length < 2) return null;
  let best: string | null = null;
  let least = Math.max(1, Math.floor(name.length / 3)) + 1;
  for (const one of names.slice(0, mostNames)) {
    if (one.length > longest) continue;
    const distance = edits(name.toLowerCase(), one.toLowerCase(), least);
    if (distance < least) {
      best = one;
      least = distance;
    }
  }
  return best;
}

/** A hint for an unknown name: the nearest one, or all of them when there are few. */
export function hintFor(name: string, names: readonly string[]): string {
  const near = nearest(name, names);
  if (near) return `Did you mean \`${near}\`?`;
  if (names.length === 0) return 'There are none yet.';
  const shown = names.slice(0, 12).map((one) => `\`${one.slice(0, longest)}\``);
  return `Known here: ${shown.join(', ')}${names.length > 12 ? ', …' : ''}.`;
}

/** Edits (insert, remove, replace, swap of neighbours) between two short texts; `bound` is returned when there are at least so many. */
function edits(a: string, b: string, bound: number): number {
  if (Math.abs(a.length - b.length) >= bound) return bound;
  let before: number[] = [];
  let row = Array.from({ length: b.length + 1 }, (_, at) => at);
  for (let i = 1; i <= a.length; i++) {
    const next = [i];
    for (let j = 1; j <= b.length; j++) {
      const same = a[i - 1] === b[j - 1];
      let cost = Math.min((row[j] ?? 0) + 1, (next[j - 1] ?? 0) + 1, (row[j - 1] ?? 0) + (same ? 0 : 1));
      if (i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1])
        cost = Math.min(cost, (before[j - 2] ?? 0) + 1);
      next.push(cost);
    }
    before = row;
    row = next;
  }
  return Math.min(row[b.length] ?? bound, bound);
}
