/** Paths and patterns of a definition: relative to the project's folder and anchored there. */
import picomatch from 'picomatch';

/** Why a path can't be used, in words, or null. Refuses what leaves the folder and what can't be laid out. */
export function unsafePath(path: string): string | null {
  if (path === '') return 'it is empty';
  if (path.includes('\0')) return 'it holds a zero byte';
  if (path.startsWith('/')) return 'it begins with /';
  const steps = path.replace(/\/$/, '').split('/');
  if (steps.some((step) => step === '..')) return 'it leaves the folder';
  if (steps.some((step) => step === '' || step === '.')) return 'it has an empty step';
  if (steps.some((step) => Buffer.byteLength(step) > 255)) return 'a step of it is longer than 255 bytes';
  if (Buffer.byteLength(path) > 4000) return 'it is longer than 4,000 bytes';
  return null;
}

export interface Selection {
  /** The chosen paths, in the order given. */
  paths: string[];
  /** Patterns that chose nothing. */
  idle: string[];
}

/**
 * Chooses among `paths` by patterns: a name means that file or that whole folder; `*` stays within one folder, `**` crosses;
 * `except PATTERN` takes away. `null` patterns mean all.
 */
export function select(paths: readonly string[], patterns: readonly string[] | null): Selection {
  if (patterns === null) return { paths: [...paths], idle: [] };
  const rules = patterns.map((source) => ({ source, except: /^except\s+/.test(source), matches: matcher(source.replace(/^except\s+/, '')), used: false }));
  const chosen = paths.filter((path) => {
    let inside = false;
    for (const rule of rules) {
      if (!rule.matches(path)) continue;
      rule.used = true;
      if (!rule.except) inside = true;
    }
    return inside && !rules.some((rule) => rule.except && rule.matches(path));
  });
  return { paths: chosen, idle: rules.filter((rule) => !rule.used).map((rule) => rule.source) };
}

/** A test for one pattern. */
function matcher(pattern: string): (path: string) => boolean {
  const plain = pattern.replace(/\/$/, '');
  if (!/[*]/.test(plain)) return (path) => path === plain || path.startsWith(`${plain}/`);
  // Only * and ** have a meaning: everything else of the glob syntax is taken as text.
  const glob = plain.replace(/[\\?[\]{}()!+@|]/g, '\\$&');
  const options = { dot: true, nobrace: true, noext: true, nonegate: true };
  const exact = picomatch(glob, options);
  const below = picomatch(`${glob}/**`, options);
  return (path) => exact(path) || below(path);
}
