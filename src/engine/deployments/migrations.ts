/** Migrations of a release: files of its commit, as its definition names them. */
import { filesOf } from '../../core/plan/plan.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { type Context, treeOf } from '../context.js';

export type Migration = NonNullable<ReleaseRow['migrations']>[number];

/** In the order of their paths; none where its commit is not here any more. */
export async function migrationsOf(context: Context, project: ProjectRow, release: ReleaseRow): Promise<Migration[]> {
  if (release.migrations) return release.migrations;
  const patterns = release.plan.migrations;
  if (!patterns) return [];
  const tree = await treeOf(context, project, release.commit).catch(() => []);
  return [...filesOf(tree, patterns)].sort((a, b) => (a.path < b.path ? -1 : 1));
}

export type MigrationChange = { path: string; what: 'new' | 'changed' | 'gone' };

/** What differs between those of two releases. A changed one is likely a mistake: where it ran it does not run again. */
export function changedMigrations(from: readonly Migration[], to: readonly Migration[]): MigrationChange[] {
  const before = new Map(from.map((file) => [file.path, file.id]));
  const there = new Set(to.map((file) => file.path));
  return [
    ...to.flatMap(({ path, id }): MigrationChange[] => {
      const was = before.get(path);
      return was === id ? [] : [{ path, what: was === undefined ? 'new' : 'changed' }];
    }),
    ...from.flatMap(({ path }): MigrationChange[] => (there.has(path) ? [] : [{ path, what: 'gone' }])),
  ];
}
