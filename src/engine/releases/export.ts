/** A release as a file that leaves the house: its images, and signed statements about them. */
import { text } from 'node:stream/consumers';
import { pipeline } from 'node:stream/promises';
import { type Pack, pack } from 'tar-stream';
import { CodedError } from '../../core/errors/errors.js';
import { type Envelope, seal } from '../../core/release/envelope.js';
import { evidenceDigest } from '../../core/release/evidence.js';
import { layoutOf, layoutText } from '../../core/release/layout.js';
import { evidenceStatement, provenance, type ReleaseFacts, type StatementKind } from '../../core/release/statements.js';
import { version } from '../../core/version.js';
import { evidenceOf, type ReleaseRow } from '../../records/deployments/releases.js';
import { commitById } from '../../records/projects/sources.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { runById, toolsOfRun } from '../../records/runs/runs.js';
import type { Context } from '../context.js';
import { migrationsOf } from '../deployments/migrations.js';
import { refuseGone } from '../deployments/acts.js';

/** Both statements about a release, signed now. */
async function statementsOf(
  context: Context,
  project: ProjectRow,
  release: ReleaseRow,
): Promise<Record<StatementKind, Envelope>> {
  const { records, releaseKeys, url } = context;
  const [commit, run, tools, evidence, migrations] = await Promise.all([
    commitById(records, project.id, release.commit),
    release.run_id === null ? null : runById(records, release.run_id),
    toolsOfRun(records, release.run_id),
    evidenceOf(records, release.id),
    migrationsOf(context, project, release),
  ]);
  const facts: ReleaseFacts = {
    project: project.name,
    number: release.number,
    digest: release.digest,
    parts: release.parts,
    commit: {
      id: release.commit,
      title: commit?.title ?? '',
      author: commit?.author ?? '',
      at: (commit?.at ?? release.created_at).toISOString(),
    },
    branch: release.branch,
    pullRequest: release.pull_request,
    line: release.line,
  };
  const made = provenance(facts, {
    service: url,
    version,
    source: `git+${project.url ?? `${url}/git/${project.name}`}`,
    run: run?.number ?? 0,
    startedAt: run?.started_at?.toISOString() ?? null,
    endedAt: run?.ended_at?.toISOString() ?? null,
    tools,
  });
  const known = evidenceStatement(facts, {
    plan: release.plan,
    migrations,
    evidence: evidence.map((one) => ({ ...one, at: one.at.toISOString(), evidence: evidenceDigest(one) })),
  });
  const key = releaseKeys.current();
  return { provenance: seal(made, [key]), evidence: seal(known, [key]) };
}

/** The export as a tar, small documents first. What it lacks is said before its first byte. */
export async function exportRelease(context: Context, project: ProjectRow, release: ReleaseRow): Promise<Pack> {
  refuseGone(release);
  // Nobody here knows more of it than the file that it came in.
  if (release.imported)
    throw new CodedError('export_imported', { release: `r${release.number}`, service: release.imported.service });
  const { blobs } = context;
  const must = async (digest: string): Promise<number> => {
    const size = await blobs.size(digest);
    if (size === null) throw new CodedError('output_gone', { digest: digest.slice(0, 19) });
    return size;
  };
  const parts = await Promise.all(
    release.parts.map(async ({ name, digest }) => ({ name, digest, size: await must(digest) })),
  );
  const configs = await Promise.all(
    parts.map(async ({ digest }) => {
      const manifest = JSON.parse(await textOf(context, digest)) as { config: { digest: string } };
      return manifest.config.digest;
    }),
  );
  const digests = new Set([
    release.digest,
    ...parts.map(({ digest }) => digest),
    ...configs,
    ...release.parts.flatMap((part) => part.layers.map((layer) => layer.digest)),
  ]);
  for (const digest of digests) await must(digest);
  const { index, documents } = layoutOf(
    { number: release.number, digest: release.digest, size: await must(release.digest), parts },
    await statementsOf(context, project, release),
  );
  const tar = pack();
  const put = (name: string, content: string) => tar.entry({ name, mtime: new Date(0) }, content);
  const fill = async () => {
    put('oci-layout', layoutText);
    put('index.json', index);
    for (const one of documents) put(blobPath(one.digest), one.text);
    for (const digest of digests) {
      const found = await blobs.open(digest);
      if (!found) throw new Error(`the bytes ${digest} are missing`);
      await pipeline(found.stream, tar.entry({ name: blobPath(digest), size: found.size, mtime: new Date(0) }));
    }
    tar.finalize();
  };
  // Whoever reads it hears of it, and whoever has gone away ends it.
  fill().catch((error: Error) => tar.destroy(error));
  return tar;
}

const blobPath = (digest: string): string => `blobs/sha256/${digest.slice('sha256:'.length)}`;

async function textOf({ blobs }: Context, digest: string): Promise<string> {
  const found = await blobs.open(digest);
  if (!found) throw new CodedError('output_gone', { digest: digest.slice(0, 19) });
  return text(found.stream);
}
