/**
 * Patterns of paths and branches: `*` stays within one step, `**` as a whole step crosses any number of them (none, too, but at the
 * end: `a/**` is what lies below `a`); everything
 * else is text. A pattern of paths means what it names and all that lies below; one of branches what it names alone.
 *
 * Matching never takes longer than length of pattern times length of path, whatever both are: a star that was wrong is taken back
 * only to the star before it.
 */
export type Matcher = (path: string) => boolean;

export function compileGlob(pattern: string, below = true): Matcher {
  const steps = pattern.split('/').map(compileStep);
  // At the end `**` means what lies below, which is a step at least.
  if (steps.length > 1 && steps.at(-1)?.cross) steps.splice(-1, 0, { cross: false, stars: true, matches: () => true });
  const fixed = steps.findIndex((step) => step.stars);
  // What stands before the first star is told by one comparison.
  const head = pattern
    .split('/')
    .slice(0, fixed < 0 ? steps.length : fixed)
    .join('/');
  return (path) => {
    if (head !== '' && !(path === head || (path.startsWith(head) && path[head.length] === '/'))) return false;
    return matchSteps(steps, path.split('/'), below);
  };
}

/** Whether a whole text fits: `*` stands for any text, slashes too. */
export const wildcard = (pattern: string): Matcher => compileStep(pattern.replace(/\*+/g, '*')).matches;

interface Step {
  /** Crosses steps. */
  cross: boolean;
  stars: boolean;
  matches(text: string): boolean;
}

function compileStep(text: string): Step {
  if (text === '**') return { cross: true, stars: true, matches: () => true };
  if (!text.includes('*')) return { cross: false, stars: false, matches: (other) => other === text };
  const pieces = text.replace(/\*+/g, '*').split('*');
  const first = pieces[0] as string;
  const last = pieces.at(-1) as string;
  const middle = pieces.slice(1, -1);
  return {
    cross: false,
    stars: true,
    matches(other) {
      if (other.length < first.length + last.length || !other.startsWith(first) || !other.endsWith(last)) return false;
      let at = first.length;
      const end = other.length - last.length;
      for (const piece of middle) {
        const found = other.indexOf(piece, at);
        if (found < 0 || found + piece.length > end) return false;
        at = found + piece.length;
      }
      return true;
    },
  };
}

/** Whether the steps of a pattern fit those of a path, or of a folder above it. */
function matchSteps(steps: readonly Step[], path: readonly string[], below: boolean): boolean {
  let at = 0;
  let step = 0;
  /** The last `**`, and how far it reaches now. */
  let cross = -1;
  let reach = 0;
  for (;;) {
    const one = steps[step];
    // All of the pattern is used: what is left of the path lies below.
    if (!one && (below || at === path.length)) return true;
    if (one?.cross) {
      cross = step++;
      reach = at;
      continue;
    }
    if (one && at < path.length && one.matches(path[at] as string)) {
      at++;
      step++;
      continue;
    }
    if (cross < 0 || reach >= path.length) return false;
    at = ++reach;
    step = cross + 1;
  }
}
