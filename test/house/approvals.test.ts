/** Whose an approval is depends on what the release brings to the live one: another live release, another answer. */
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { settleAuthors, writtenBy } from '../../src/engine/promotion/approvals.js';
import { ensureRepository } from '../../src/engine/context.js';
import { commitFiles, moveBranch } from '../../src/git/write.js';
import { addApproval, approvalsOf } from '../../src/records/deployments/approvals.js';
import { findEnvironment, type EnvironmentRow } from '../../src/records/deployments/environments.js';
import { query, queryOne } from '../../src/records/database.js';
import { newId } from '../../src/records/ids.js';
import { type Cluster, openCluster, recordProject, recordRun } from './cluster.js';

let cluster: Cluster;
beforeAll(async () => {
  cluster = await openCluster(9);
});
afterAll(() => cluster?.close());

describe('an approval of someone who wrote nothing of what a release brings', () => {
  it('is the author’s once a revert brings their older commits in again, and is not when they are live again', async () => {
    const { records, folder } = cluster;
    const project = await recordProject(records, 'pier');
    const context = { records, repositories: join(folder, 'repositories') } as never;
    const repository = await ensureRepository(context, project);
    const by = (name: string) => ({ name, email: `${name.toLowerCase()}@kohama.example` });
    const commits: string[] = [];
    for (const [at, name] of ['Kei', 'Mika', 'Kei'].entries())
      commits.push(await commitFiles(repository, commits.at(-1) ?? null, { 'a.txt': `${at}` }, `${at}`, by(name)));
    await moveBranch(repository, 'main', commits[2] as string, null);
    await query(
      records,
      `insert into environments (id, project_id, name, kind, plan_name, host) values ($1, $2, 'production', 'standing', 'production', 'pier.localhost')`,
      [newId(), project.id],
    );
    const environment = (await findEnvironment(records, project.id, 'production')) as EnvironmentRow;
    const releases: { id: string; number: number; digest: string; commit: string }[] = [];
    for (const [at, commit] of commits.entries()) {
      const release = { id: newId(), number: at + 1, digest: `d${at}`, commit };
      releases.push(release);
      const run = await recordRun(records, project.id);
      await query(
        records,
        `insert into releases (id, project_id, number, digest, commit, run_id, parts, plan) values ($1, $2, $3, $4, $5, $6, '[]', '{}')`,
        [release.id, project.id, release.number, release.digest, commit, run.id],
      );
      await query(
        records,
        `insert into deployments (id, project_id, number, environment_id, release_id, kind, actor, state, environment_plan, variables)
         values ($1, $2, $3, $4, $1, 'deploy', 'test', 'replaced', '{}', '{}')`,
        [release.id, project.id, release.number, environment.id],
      );
    }
    const live = (number: number) =>
      query(records, 'update environments set live_id = $2 where id = $1', [environment.id, releases[number - 1]?.id]);
    const [, , third] = releases as [never, never, (typeof releases)[number]];
    const person = newId();
    await query(records, `insert into people (id, name, role) values ($1, 'Mika', 'releaser')`, [person]);
    const author = async () =>
      (await approvalsOf(records, { environment, release: third, after: null })).map((one) => one.author);
    // r2 has Mika's commit and is live: r3 brings only Kei's.
    await live(2);
    const { names, against } = await writtenBy(context, project, 'production', third);
    expect(names.has('mika')).toBe(false);
    await addApproval(records, { environment, release: third, person, author: false, against, after: null });
    expect(await author()).toEqual([false]);
    // r1 is live after a revert: r3 brings Mika's commit as well. Until that is known it counts as the author's.
    await live(1);
    expect(await author()).toEqual([true]);
    await settleAuthors(context, project, environment);
    expect(await author()).toEqual([true]);
    expect(await queryOne(records, 'select author, against from approvals')).toEqual({
      author: true,
      against: commits[0],
    });
    await live(2);
    await settleAuthors(context, project, environment);
    expect(await author()).toEqual([false]);
  });
});
