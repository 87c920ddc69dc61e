/** Folders in which common build tools keep what they have computed, inside the project: a `cache`, never an output. */
import { list } from './look.js';
import { type Line, line } from './model.js';

interface OwnCache {
  /** Whether the tool is at work: its package, and the words of the command that runs. */
  used(command: string, packages: Readonly<Record<string, string>>): boolean;
  tool: string;
  path: string;
}

const named =
  (name: string, word: RegExp = new RegExp(`\\b${name}\\b`)): OwnCache['used'] =>
  (command, packages) =>
    Object.hasOwn(packages, name) && word.test(command);

const caches: readonly OwnCache[] = [
  { tool: 'vite', path: 'node_modules/.vite/', used: named('vite') },
  { tool: 'vitest', path: 'node_modules/.vite/', used: named('vitest') },
  { tool: 'astro', path: 'node_modules/.astro/', used: named('astro') },
  { tool: 'parcel', path: '.parcel-cache/', used: named('parcel') },
  { tool: 'ng', path: '.angular/cache/', used: named('@angular/cli', /\bng (build|test)\b/) },
  { tool: 'next', path: '.next/cache/', used: named('next', /\bnext build\b/) },
  { tool: 'webpack', path: 'node_modules/.cache/', used: named('webpack') },
  { tool: 'react-scripts', path: 'node_modules/.cache/', used: named('react-scripts') },
  { tool: 'prettier', path: 'node_modules/.cache/', used: named('prettier', /\bprettier\b.*--cache\b/) },
  { tool: 'pytest', path: '.pytest_cache/', used: (command) => /\bpytest\b/.test(command) },
];

/** The line of a task that keeps them; none where no known tool is at work, or its folder is part of what the task makes. */
export function ownCaches(
  command: string,
  packages: Readonly<Record<string, string>>,
  makes: readonly string[] = [],
): Line[] {
  const fit = caches.filter(
    (one) => one.used(command, packages) && !makes.some((path) => one.path.startsWith(`${path.replace(/\/$/, '')}/`)),
  );
  if (fit.length === 0) return [];
  const tools = [...new Set(fit.map((one) => one.tool))].join(' and ');
  const keep = fit.length === 1 ? 'keeps' : 'keep';
  return [line(`cache: ${list([...new Set(fit.map((one) => one.path))])}`, `${tools} ${keep} what was computed there`)];
}
