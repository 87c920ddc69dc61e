/** What an environment shows, and why it takes nothing new. */
import { releasedBy } from '../../records/deployments/deployments.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import { type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import type { Db } from '../context.js';

export const heldWhy = (environment: Pick<EnvironmentRow, 'held_by' | 'held_why'>): string =>
  environment.held_why ? `${environment.held_why} (${environment.held_by})` : `held by ${environment.held_by}`;

export async function liveRelease(db: Db, environment: EnvironmentRow): Promise<ReleaseRow | null> {
  if (!environment.live_id) return null;
  const row = await releasedBy(db, environment.live_id);
  return row ? releaseById(db, row.release_id) : null;
}
