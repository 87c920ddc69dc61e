/** What an environment takes, keeps and goes back to. */
import { backoff } from '../backoff.js';
import type { DeploymentState, Health } from '../states.js';

export interface PastDeployment {
  number: number;
  release: number;
  state: DeploymentState;
  /** Whether it was live at some time. */
  wasLive: boolean;
}

export interface TakeFacts {
  held: boolean;
  open: boolean;
  /** A deployment is on its way here. */
  moving: boolean;
  liveRelease: number | null;
  /** Releases that may be taken, the newest by commit order first, down to and without the live one. */
  candidates: readonly number[];
  history: readonly PastDeployment[];
}

/** The release that an environment takes by itself now, or null. A release that failed or was reverted here is not taken again by itself. */
export function takes(facts: TakeFacts): number | null {
  const newest = facts.candidates[0];
  if (facts.held || !facts.open || facts.moving || newest === undefined || newest === facts.liveRelease) return null;
  return facts.history.some((one) => one.release === newest) ? null : newest;
}

/** Health of what is live: good when all that is asked for is ready, down when no server is, poor between. */
export function healthOf(asked: number, up: number, servers: { asked: number; ready: number }): Health {
  if (servers.asked > 0 && servers.ready === 0) return 'down';
  return up >= asked ? 'good' : 'poor';
}

/** Milliseconds to wait before an instance that ended by itself is started again, by how often that has happened in a row. */
export const restartDelay = (times: number): number => backoff('restart', times + 1);
