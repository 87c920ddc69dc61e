/** A run whose evidence is complete becomes a release: its bytes are stored first, then it is recorded, once. */
import type { Part, ReleasePlan } from '../core/definition/model.js';
import { withNeeds } from '../core/definition/model.js';
import { filesOf, type ListedFile } from '../core/plan/plan.js';
import { type Layer, releaseImage } from '../core/release/image.js';
import { layerOf } from '../git/layer.js';
import { dueEnvironments } from '../records/environments.js';
import { recordEvents } from '../records/events.js';
import { nextNumber, type ProjectRow } from '../records/projects.js';
import { addEvidence, addRelease, releaseOfRun } from '../records/releases.js';
import { nameReleaseBlobs } from '../records/space.js';
import { lockRun, type RunRow, type TaskRow } from '../records/runs.js';
import { type Context, repositoryOf, treeOf } from './context.js';

export async function makeRelease(context: Context, project: ProjectRow, run: RunRow, plan: ReleasePlan, tasks: readonly TaskRow[]): Promise<void> {
  const repository = repositoryOf(context, project);
  const listed = await treeOf(context, project, run.commit);
  const parts: { part: Part; layers: Layer[] }[] = [];
  for (const part of Object.values(plan.parts)) parts.push({ part, layers: await layersOf(context, repository, part, listed, tasks) });
  const image = releaseImage(parts, { project: project.name, commit: run.commit });
  for (const document of image.documents) if ((await context.blobs.size(document.digest)) === null) await context.blobs.putText(document.text);

  await context.records.transition('release.made', async (db) => {
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
      parts: image.parts,
      plan,
    });
    await nameReleaseBlobs(db, release.id, [
      ...image.documents.map((one) => one.digest),
      ...image.parts.flatMap((part) => part.layers.map((layer) => layer.digest)),
    ]);
    for (const task of tasks.filter((one) => one.evidence)) {
      const tests = task.tests ? { passed: task.tests.passed, failed: task.tests.failed, skipped: task.tests.skipped } : null;
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
    await dueEnvironments(db, project.id);
  });
}

/** The commit's files as one layer, then the whole outputs of the needs, and of what they need in turn, in the order of the needs. */
async function layersOf(context: Context, repository: string, part: Part, listed: readonly ListedFile[], tasks: readonly TaskRow[]): Promise<Layer[]> {
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
