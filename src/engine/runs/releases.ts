/** A run whose evidence is complete becomes a release: its bytes are stored first, then it is recorded, once. */
import type { Part, ReleasePlan } from '../../core/definition/model.js';
import { entryText } from '../../blobs/entry.js';
import { diagnoseSite } from '../../core/diagnose/site.js';
import { CodedError, type Issue } from '../../core/errors/errors.js';
import { withNeeds } from '../../core/definition/model.js';
import { filesOf, type ListedFile } from '../../core/plan/plan.js';
import { type Layer, releaseImage } from '../../core/release/image.js';
import { layerOf } from '../../git/layer.js';
import { dueReviewOf, holdReleases } from '../../records/deployments/environments.js';
import { addWake } from '../../records/deployments/wakes.js';
import { recordEvents } from '../../records/events.js';
import { nextNumber, type ProjectRow } from '../../records/projects/projects.js';
import { addEvidence, addRelease, releaseOfRun } from '../../records/deployments/releases.js';
import { holdBlobs, nameReleaseBlobs } from '../../records/views/space.js';
import { addWarnings, lockRun, type RunRow, type TaskRow } from '../../records/runs/runs.js';
import { type Context, repositoryOf, treeOf } from '../context.js';

/** Of this machine, whose kind the agents share. */
const architecture = { x64: 'amd64' }[process.arch as string] ?? process.arch;

export async function makeRelease(
  context: Context,
  project: ProjectRow,
  run: RunRow,
  plan: ReleasePlan,
  tasks: readonly TaskRow[],
): Promise<void> {
  const repository = repositoryOf(context, project);
  const listed = await treeOf(context, project, run.commit);
  const parts: { part: Part; layers: Layer[] }[] = [];
  for (const part of Object.values(plan.parts))
    parts.push({ part, layers: await layersOf(context, repository, part, listed, tasks) });
  const misplaced = await siteIssues(context, parts);
  const image = releaseImage(parts, { project: project.name, commit: run.commit, architecture });
  // What is there already counts as used from now on, or the upkeep of space could take it before the release is recorded.
  for (const { digest, text } of image.documents)
    if (!(await context.blobs.intact(digest, Buffer.byteLength(text)))) await context.blobs.putText(text);
  for (const { digest, size } of image.parts.flatMap((part) => part.layers))
    if (!(await context.blobs.intact(digest, size)))
      throw new CodedError('output_gone', { digest: digest.slice(0, 19) });

  const named = [
    ...image.documents.map((one) => one.digest),
    ...image.parts.flatMap((part) => part.layers.map((layer) => layer.digest)),
  ];
  await context.records.transition('release.made', async (db) => {
    // Environments before runs: that is the order of locks.
    await holdReleases(db, project.id, 'shared');
    await dueReviewOf(db, project.id, run);
    // Standing ones are woken after this transaction: none of them is locked for it.
    await addWake(db, project.id);
    await holdBlobs(db);
    // From here on nothing is taken; what was taken since it was marked is missed now, not when it is served.
    for (const digest of named)
      if ((await context.blobs.size(digest)) === null)
        throw new Error(`${digest} was removed while a release was made of it`);
    await lockRun(db, run.id);
    if (await releaseOfRun(db, run.id)) return;
    const number = await nextNumber(db, project.id, 'releases');
    const release = await addRelease(db, {
      project_id: project.id,
      number,
      digest: image.digest,
      commit: run.commit,
      branch: run.branch,
      pull_request: run.pull_request,
      run_id: run.id,
      line: run.line,
      parts: image.parts,
      plan,
      imported: null,
      migrations:
        plan.migrations === null
          ? []
          : filesOf(listed, plan.migrations)
              .map(({ path, id }) => ({ path, id }))
              .sort((a, b) => (a.path < b.path ? -1 : 1)),
    });
    await nameReleaseBlobs(db, release.id, named);
    if (misplaced.length) await addWarnings(db, run.id, misplaced);
    for (const task of tasks.filter((one) => one.evidence)) {
      const tests = task.tests
        ? { passed: task.tests.passed, failed: task.tests.failed, skipped: task.tests.skipped }
        : null;
      await addEvidence(db, release, {
        kind: 'task',
        name: task.name,
        source: `run ${run.number}`,
        detail: { state: task.state, fingerprint: task.fingerprint, tests },
      });
    }
    await recordEvents(db, {
      type: 'release.made',
      project: project.id,
      subject: `r${number}`,
      actor: 'engine',
      data: { number, commit: run.commit, digest: image.digest, run: run.number },
    });
  });
}

const pageLimit = 1024 * 1024;

/** What is wrong with the first pages of sites that are served below a path; the last layer that has one counts. */
async function siteIssues(context: Context, parts: readonly { part: Part; layers: Layer[] }[]): Promise<Issue[]> {
  const found: Issue[] = [];
  for (const { part, layers } of parts) {
    if (part.kind !== 'site' || part.at === '/') continue;
    for (const layer of [...layers].reverse()) {
      const blob = await context.blobs.open(layer.digest);
      const page = blob
        ? await entryText(blob.stream, part.root ? `${part.root}/index.html` : 'index.html', pageLimit)
        : null;
      if (page === null) continue;
      const why = diagnoseSite(part, page);
      if (why) found.push(why);
      break;
    }
  }
  return found;
}

/** The commit's files as one layer, then the whole outputs of the needs, and of what they need in turn, in the order of the needs. */
async function layersOf(
  context: Context,
  repository: string,
  part: Part,
  listed: readonly ListedFile[],
  tasks: readonly TaskRow[],
): Promise<Layer[]> {
  const layers: Layer[] = [];
  const files = filesOf(listed, part.files);
  if (files.length) layers.push({ ...(await context.blobs.put(layerOf(repository, files))), from: 'files' });
  const models = Object.fromEntries(tasks.map((task) => [task.name, task.model]));
  const needed = tasks.filter((task) => part.needs.includes(task.model.of)).map((task) => task.name);
  for (const need of withNeeds(models, needed).filter((name) => needed.includes(name))) {
    const task = tasks.find((one) => one.name === need);
    if (task?.output) layers.push({ digest: task.output, size: task.output_size ?? 0, from: `task ${need}` });
  }
  return layers;
}
