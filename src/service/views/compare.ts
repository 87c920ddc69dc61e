/** Two releases beside each other, as the API gives them. */
import type { Change } from '../../core/compare/compare.js';
import { sizeText } from '../../core/sizes.js';
import type { Comparison as Compared, Side } from '../../engine/compare/compare.js';
import type { Db } from '../../records/database.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Comparison } from '../../wire/compare.js';
import { commitView, factsView } from './basics.js';

async function sideView(db: Db, project: ProjectRow, one: Side): Promise<Comparison['from']> {
  return {
    name: one.name,
    environment: one.environment,
    release: one.release.number,
    deployment: one.deployment?.number ?? null,
    commit: await commitView(db, project.id, one.release.commit),
  };
}

const inWords = <T>(changes: readonly Change<T>[], text: (one: T) => string) =>
  changes.map(({ name, what, from, to }) => ({
    name,
    what,
    from: from === null ? null : text(from),
    to: to === null ? null : text(to),
  }));

export async function comparisonView(db: Db, project: ProjectRow, one: Compared): Promise<Comparison> {
  return {
    project: project.name,
    from: await sideView(db, project, one.from),
    to: await sideView(db, project, one.to),
    commits: one.commits.map(({ pull, ...commit }) => ({ ...factsView(commit), pull })),
    lost: one.lost.map(({ pull, ...commit }) => ({ ...factsView(commit), pull })),
    notInMain: one.notInMain.map(factsView),
    definition: one.definition,
    parts: one.parts.map(({ files, ...part }) => ({
      ...part,
      files: files && {
        count: files.count,
        changes: files.changes.map(({ name, what, from, to }) => ({
          path: name,
          what,
          from: from?.size ?? null,
          to: to?.size ?? null,
        })),
      },
    })),
    tools: inWords(one.tools, (text) => text),
    resources: inWords(one.resources, ({ kind, size, extensions }) =>
      [kind, ...(size === null ? [] : [sizeText(size)]), ...extensions].join(', '),
    ),
    migrations: one.migrations.map(({ name, what }) => ({ path: name, what })),
    variables:
      one.variables &&
      one.variables.map(({ name, what, from, to }) => ({
        name,
        what,
        secret: (to ?? from)?.secret ?? false,
        from: from?.value ?? null,
        to: to?.value ?? null,
      })),
    sizes:
      one.sizes &&
      inWords(one.sizes, ({ instances, memory, cpu }) =>
        [
          `${instances} ${instances === 1 ? 'instance' : 'instances'}`,
          ...(memory === null ? [] : [sizeText(memory)]),
          ...(cpu === null ? [] : [`${cpu} cores`]),
        ].join(', '),
      ),
  };
}
