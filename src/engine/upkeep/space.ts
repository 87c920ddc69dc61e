/** The upkeep of space: old runs and releases let go of their bytes, and bytes that nothing names are removed. */
import { defaultFree } from '../../blobs/disk.js';
import { recordEvents } from '../../records/events.js';
import {
  forgetRelease,
  holdBlobsAlone,
  lockRelease,
  releasesToForget,
  runsToTrim,
  trimRun,
  unnamedBlobs,
} from '../../records/views/space.js';
import { lockRun } from '../../records/runs/runs.js';
import { dropOldLogs } from '../../records/runs/logs.js';
import { forgetSecrets } from '../../records/deployments/variables.js';
import { stepKeys } from './keys.js';
import type { Context, Keeping } from '../context.js';

export const defaultKeeping: Keeping = {
  runs: 1_000,
  releases: 100,
  reverts: 20,
  grace: 3_600_000,
  logs: 30 * 86_400_000,
  free: defaultFree,
};

const atOnce = 50;
/** Unlinked in one transaction, which holds back whoever is about to use stored bytes, and the numbers of events. */
const blobsAtOnce = 50;

/** Trims one batch; true when there may be more. Bytes are looked through when there is nothing left to trim. */
export async function stepSpace(context: Context): Promise<boolean> {
  const { records, keeping } = context;
  const releases = await releasesToForget(records, keeping.releases, keeping.reverts, atOnce);
  for (const { id, number, project_id } of releases) {
    await records.transition('release.bytes-removed', async (db) => {
      // A deployment may have been made of it since it was found.
      await lockRelease(db, id);
      if ((await releasesToForget(db, keeping.releases, keeping.reverts, 1, id)).length === 0) return;
      await forgetRelease(db, id);
      await recordEvents(db, {
        type: 'release.bytes-removed',
        project: project_id,
        subject: `r${number}`,
        actor: 'engine',
        data: { number },
      });
    });
  }
  const runs = await runsToTrim(records, keeping.runs, atOnce);
  for (const { id, number, project_id } of runs) {
    await records.transition('run.trimmed', async (db) => {
      await lockRun(db, id);
      if ((await runsToTrim(db, keeping.runs, 1, id)).length === 0) return;
      await trimRun(db, id);
      await recordEvents(db, {
        type: 'run.trimmed',
        project: project_id,
        subject: `run ${number}`,
        actor: 'engine',
        data: { number },
      });
    });
  }
  await forgetSecrets(records);
  if ((await records.transition('logs.removed', (db) => dropOldLogs(db, keeping.logs, atOnce))) > 0) return true;
  if (releases.length + runs.length > 0) return true;
  await collectBlobs(context);
  await stepKeys(context);
  return false;
}

/** Nothing is written to for so long and still taken. */
const unfinishedMs = 86_400_000;

async function collectBlobs({ blobs, records, keeping, now, log }: Context): Promise<void> {
  let batch: string[] = [];
  let removed = 0;
  const sweep = async () => {
    const digests = batch;
    batch = [];
    if (digests.length === 0 || (await unnamedBlobs(records, digests)).length === 0) return;
    await records.transition('blobs.removed', async (db) => {
      // Who is about to use bytes again has marked them as used, or waits here until they are gone.
      await holdBlobsAlone(db);
      for (const digest of await unnamedBlobs(db, digests)) {
        if (now() - ((await blobs.usedAt(digest)) ?? now()) < keeping.grace) continue;
        await blobs.remove(digest);
        removed++;
      }
    });
  };
  // Of a service that was killed while it took them.
  await blobs.dropUnfinished(now() - unfinishedMs);
  for await (const digest of blobs.olderThan(now() - keeping.grace)) {
    batch.push(digest);
    if (batch.length === blobsAtOnce) await sweep();
  }
  await sweep();
  if (removed) log.info({ removed }, 'stored bytes that nothing names are removed');
}
