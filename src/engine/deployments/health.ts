/** The time for which a release was in good health, as evidence about its bytes. */
import { evidenceDigest } from '../../core/release/evidence.js';
import { recordEvents } from '../../records/events.js';
import { addEvidence, type EvidenceRow, type ReleaseRow } from '../../records/deployments/releases.js';
import type { DeploymentRow } from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Context, Db } from '../context.js';

/** Milliseconds: a shorter time says nothing. */
const worthMs = 60_000;

export interface HealthSpan {
  project: { id: string; name: string };
  /** The environment that it was live in. */
  environment: string;
  /** `d17` */
  source: string;
  release: ReleaseRow;
  /** Milliseconds since the epoch. */
  from: number;
  to: number;
}

export async function recordHealth(db: Db, { from, to, ...span }: HealthSpan): Promise<void> {
  if (to - from < worthMs) return;
  const row = await addEvidence(db, span.release, {
    kind: 'health',
    name: span.environment,
    source: span.source,
    detail: { from: new Date(from).toISOString(), to: new Date(to).toISOString() },
  });
  if (row) await tellEvidence(db, span.project, span.environment, span.release, row);
}

/** What is live in this environment was in good health until now. */
export async function endHealth({
  db,
  context,
  environment,
  project,
  of,
}: {
  db: Db;
  context: Pick<Context, 'now'>;
  environment: EnvironmentRow;
  project: ProjectRow;
  of: { deployment: Pick<DeploymentRow, 'number'>; release: ReleaseRow };
}): Promise<void> {
  if (environment.kind !== 'standing' || !environment.healthy_since) return;
  await recordHealth(db, {
    project,
    environment: environment.name,
    source: `d${of.deployment.number}`,
    release: of.release,
    from: environment.healthy_since.getTime(),
    to: context.now(),
  });
}

/** Says that there is new evidence, with its own digest. */
export const tellEvidence = (
  db: Db,
  project: { id: string; name: string },
  environment: string,
  release: Pick<ReleaseRow, 'number'>,
  row: EvidenceRow,
  actor = 'engine',
): Promise<unknown> =>
  recordEvents(db, {
    type: 'evidence.recorded',
    project: project.id,
    subject: `r${release.number}`,
    actor,
    data: {
      kind: row.kind,
      environment: `${project.name}/${environment}`,
      digest: row.digest,
      evidence: evidenceDigest(row),
    },
  });
