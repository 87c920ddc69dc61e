/** A release that was made elsewhere: checked whole before a byte of it is kept, then one of this house, under its rules. */
import type { KeyObject } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { rm } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import { readExport, takeBlobs } from '../../blobs/exported.js';
import { writeLayer } from '../../blobs/write.js';
import type { ReleasePlan } from '../../core/definition/model.js';
import { CodedError } from '../../core/errors/errors.js';
import { checkLayout, type VerifiedExport } from '../../core/release/layout.js';
import { planMisfit } from '../../core/release/stated.js';
import { holdReleases } from '../../records/deployments/environments.js';
import { addEvidence, addRelease, importedRelease, type ReleaseRow } from '../../records/deployments/releases.js';
import { recordEvents } from '../../records/events.js';
import { nextNumber, type ProjectRow } from '../../records/projects/projects.js';
import { saveCommit } from '../../records/projects/sources.js';
import { holdBlobs, nameReleaseBlobs } from '../../records/views/space.js';
import type { Context } from '../context.js';

/** Bytes of a whole export at most. */
const exportAtMost = 16 * 1024 ** 3;

export interface Import {
  stream: Readable;
  /** Public keys that whoever imports it vouches for. */
  keys: readonly KeyObject[];
  actor: string;
  /** Whether plan and migrations are of a form that is known here. */
  known(stated: { plan: unknown; migrations: unknown }): boolean;
}

/** Takes an export in. What is there already is given as it is. @throws `export_broken`, `export_unsigned`, `output_unsafe` */
export async function importRelease(
  context: Context,
  project: ProjectRow,
  { stream, keys, actor, known }: Import,
): Promise<{ release: ReleaseRow; fresh: boolean }> {
  const { blobs } = context;
  const full = await context.full();
  if (full) throw new CodedError(full.code, full.data);
  const file = blobs.unfinished();
  try {
    await writeLayer(stream, file, undefined, exportAtMost);
    const { index, blobs: found } = await readExport(createReadStream(file));
    const verified = checkLayout(index, found, keys);
    const { stated, parts } = verified;
    if (stated.line !== 'own') throw new CodedError('export_untrusted', {});
    const misfit = known(stated)
      ? planMisfit(
          stated.plan,
          parts.map(({ name }) => name),
        )
      : 'its plan has another form';
    if (misfit) throw new CodedError('export_broken', { why: misfit });
    const there = await importedRelease(context.records, project.id, verified.digest);
    if (there) return { release: there, fresh: false };
    const layers = new Set(parts.flatMap((part) => part.layers.map(({ digest }) => digest)));
    for (const { digest, text } of verified.documents)
      if (!(await blobs.intact(digest, Buffer.byteLength(text)))) await blobs.putText(text);
    await takeBlobs(createReadStream(file), layers, (digest, body) => blobs.putLayer(body, digest));
    return await record(context, project, verified, layers, actor);
  } finally {
    await rm(file, { force: true });
  }
}

async function record(
  context: Context,
  project: ProjectRow,
  verified: VerifiedExport,
  layers: ReadonlySet<string>,
  actor: string,
): Promise<{ release: ReleaseRow; fresh: boolean }> {
  const { stated, digest, parts, keyid, provenance } = verified;
  const named = [...verified.documents.map((one) => one.digest), ...layers];
  const { runDetails } = provenance as { runDetails?: { builder?: { id?: unknown } } };
  const imported = {
    service: String(runDetails?.builder?.id ?? 'another service').slice(0, 300),
    project: stated.project.slice(0, 100),
    number: stated.number,
    key: keyid,
  };
  return context.records.transition('release.imported', async (db) => {
    // Of two that import the same at once the second finds the first one's.
    await holdReleases(db, project.id, 'alone');
    await holdBlobs(db);
    const there = await importedRelease(db, project.id, digest);
    if (there) return { release: there, fresh: false };
    for (const one of named)
      if ((await context.blobs.size(one)) === null) throw new Error(`${one} was removed while it was imported`);
    const number = await nextNumber(db, project.id, 'releases');
    const { commit } = stated;
    const at = new Date(commit.at);
    await saveCommit(db, project.id, {
      id: commit.id,
      title: commit.title.slice(0, 500),
      author: commit.author.slice(0, 200),
      at: Number.isNaN(at.getTime()) ? new Date(context.now()) : at,
    });
    const release = await addRelease(db, {
      project_id: project.id,
      number,
      digest,
      commit: commit.id,
      branch: null,
      pull_request: null,
      run_id: null,
      line: 'own',
      parts,
      plan: stated.plan as ReleasePlan,
      migrations: stated.migrations,
      imported,
    });
    await nameReleaseBlobs(db, release.id, named);
    await addEvidence(db, release, {
      kind: 'import',
      name: `${imported.project} r${imported.number}`,
      source: imported.service,
      // What was found there is told, and counts for no rule of this house.
      detail: {
        key: keyid,
        evidence: stated.evidence
          .slice(0, 1_000)
          .map(({ kind, name, source, at: when }) => ({ kind, name, source, at: when })),
      },
    });
    await recordEvents(db, {
      type: 'release.imported',
      project: project.id,
      subject: `r${number}`,
      actor,
      data: {
        number,
        commit: commit.id,
        digest,
        from: `${imported.project} r${imported.number}`,
        service: imported.service,
        key: keyid,
      },
    });
    return { release, fresh: true };
  });
}
