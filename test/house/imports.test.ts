import { readdirSync, readFileSync } from 'node:fs';
import { dirname, join, normalize } from 'node:path';
import { describe, expect, it } from '@jest/globals';

/** Which room may import which. `serve` alone, in the room of the command line, starts the others. */
const table: Record<string, string[]> = {
  core: [],
  wire: ['core'],
  keys: ['core'],
  records: ['core'],
  git: ['core'],
  blobs: ['core'],
  resources: ['core'],
  domains: ['core', 'keys'],
  channels: ['core', 'keys'],
  engine: ['core', 'records', 'git', 'blobs', 'resources', 'domains', 'channels', 'keys'],
  service: ['core', 'wire', 'records', 'engine', 'git', 'blobs', 'domains', 'channels', 'keys'],
  agent: ['core', 'wire', 'git', 'blobs', 'resources'],
  edge: ['core', 'wire', 'blobs'],
  cli: ['core', 'wire', 'git', 'agent', 'blobs'],
  'cli/serve': [
    'cli',
    'core',
    'wire',
    'service',
    'engine',
    'edge',
    'agent',
    'records',
    'resources',
    'domains',
    'channels',
    'keys',
  ],
  console: ['core', 'wire'],
};
/** Packages that core may use: small and pure. */
const pure = ['yaml', 'smol-toml', 'picomatch', 'semver', 'saxes', 'diff', 'luxon', 'pixelmatch', 'node:crypto'];

const files = (folder: string): string[] =>
  readdirSync(folder, { withFileTypes: true }).flatMap((entry) =>
    entry.isDirectory()
      ? files(join(folder, entry.name))
      : /\.tsx?$/.test(entry.name)
        ? [join(folder, entry.name)]
        : [],
  );
const roomOf = (path: string) =>
  path.startsWith('console/')
    ? 'console'
    : path.startsWith('src/cli/serve/')
      ? 'cli/serve'
      : (path.split('/')[1] as string);
const importsOf = (path: string) =>
  [
    ...readFileSync(path, 'utf8').matchAll(
      /^(?:import|export)\b[^;]*?from '([^']+)'|^import '([^']+)'|import\('([^']+)'\)/gm,
    ),
  ].map((match) => (match[1] ?? match[2] ?? match[3]) as string);

describe('imports', () => {
  it.each([...files('src'), ...files('console/src')])('%s keeps to the table', (path) => {
    const room = roomOf(path);
    for (const name of importsOf(path)) {
      if (!name.startsWith('.')) {
        if (room === 'core') expect(pure).toContain(name);
        if (room !== 'records' && room !== 'cli/serve' && !(room === 'resources' && name === 'pg'))
          expect(['sequelize', 'pg']).not.toContain(name);
        continue;
      }
      const other = roomOf(normalize(join(dirname(path), name)));
      if (other !== room) expect([path, other, table[room]?.includes(other)]).toEqual([path, other, true]);
    }
  });

  it('leave statements to the records', () => {
    for (const path of files('src').filter((one) => roomOf(one) !== 'records'))
      expect([
        path,
        /import (?:type )?\{[^}]*\b(?:query|queryOne|tables)\b[^}]*\} from '[^']*records\/database/.test(
          readFileSync(path, 'utf8'),
        ),
      ]).toEqual([path, false]);
  });

  it('never lead back to where they began', () => {
    const all = [...files('src'), ...files('console/src'), ...files('demo'), ...files('bench')];
    const named = new Map(
      all.map((path) => [
        path,
        importsOf(path).flatMap((name) => {
          const base = normalize(join(dirname(path), name));
          return all.filter((one) => [base, base.replace(/\.js$/, '.ts'), `${base}.ts`, `${base}.tsx`].includes(one));
        }),
      ]),
    );
    const done = new Set<string>();
    const circle = (path: string, way: string[]): string[] | null => {
      if (way.includes(path)) return [...way.slice(way.indexOf(path)), path];
      if (done.has(path)) return null;
      for (const next of named.get(path) ?? []) {
        const found = circle(next, [...way, path]);
        if (found) return found;
      }
      done.add(path);
      return null;
    };
    expect(all.map((path) => circle(path, [])).find(Boolean) ?? null).toBeNull();
  });

  it('go one way', () => {
    const below = (room: string, seen: string[] = []): string[] =>
      (table[room] ?? []).flatMap((other) =>
        seen.includes(other) ? [other] : [other, ...below(other, [...seen, other])],
      );
    for (const room of Object.keys(table)) expect(below(room)).not.toContain(room);
  });
});
