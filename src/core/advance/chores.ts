/**
 * Volumes, and what is done to them. A volume is files on one agent's machine, which that agent alone can touch: so what is to be done to
 * it is a chore, taken by the agent as it takes work, and told with the fence under which it was taken.
 *
 * | a chore is | in it                             | left when                                                              |
 * |------------|-----------------------------------|------------------------------------------------------------------------|
 * | asked      | its agent is to take it            | taken → given; nobody wants it any more → dropped                       |
 * | given      | its agent does it                  | told → done, or failed; its agent has begun anew → asked, under another fence; nobody wants it → dropped |
 * | done       | what came of it is kept            | final                                                                   |
 * | failed     | why is said                        | final: who wants it still asks for another one                          |
 * | dropped    | nothing it says counts any more    | final                                                                   |
 *
 * | a volume is | in it                                | left when                                                          |
 * |-------------|--------------------------------------|--------------------------------------------------------------------|
 * | making      | its agent makes it, and fills it      | ready → there (what was there before is left); not to be had → removing |
 * | there       | programs use it                       | another takes its place → left; its resource goes → removing         |
 * | left        | it may hold what was written last     | backed up → removing; its resource goes → removing                  |
 * | removing    | its agent removes it, when it is back | gone → removed                                                      |
 * | removed     | final                                 |                                                                    |
 */
import { shareLeft } from '../placement/place.js';
import type { ChoreAct, ChoreState, VolumeState } from '../states.js';

export type ChoreHappening = 'taken' | 'done' | 'failed' | 'begun anew' | 'dropped';

/** What it is next, or null where this changes nothing. */
export function choreNext(state: ChoreState, happens: ChoreHappening): ChoreState | null {
  if (happens === 'dropped') return state === 'asked' || state === 'given' ? 'dropped' : null;
  if (state === 'asked') return happens === 'taken' ? 'given' : null;
  if (state !== 'given') return null;
  if (happens === 'begun anew') return 'asked';
  return happens === 'done' || happens === 'failed' ? happens : null;
}

export type VolumeHappening = 'ready' | 'replaced' | 'saved' | 'unwanted' | 'gone';

export function volumeNext(state: VolumeState, happens: VolumeHappening): VolumeState | null {
  switch (happens) {
    case 'ready':
      return state === 'making' ? 'there' : null;
    case 'replaced':
      return state === 'there' ? 'left' : null;
    case 'saved':
      return state === 'left' ? 'removing' : null;
    case 'unwanted':
      return state === 'making' || state === 'there' || state === 'left' ? 'removing' : null;
    case 'gone':
      return state === 'removing' ? 'removed' : null;
    default:
      return happens satisfies never;
  }
}

/** Those that change what is there: of these a volume has one at a time, and the newest counts. */
export const changes = (act: ChoreAct): boolean =>
  act === 'make' || act === 'enlarge' || act === 'restore' || act === 'remove';

/** From this share on a volume is called nearly full. */
export const nearlyFull = 0.85;

/** How full it is: 0 to 1, or null where nobody knows. */
export const shareOf = (used: number | null, size: number | null): number | null =>
  used === null || !size ? null : used / size;

/** On which of the agents a new volume is made: where its environment has others already, else where the most memory is left. */
export function agentFor(
  others: readonly string[],
  rooms: readonly { id: string; name: string; memory: number | null; taken: number }[],
): string | null {
  const [other] = others;
  if (other !== undefined) return other;
  const [best] = [...rooms].sort((a, b) => shareLeft(b) - shareLeft(a) || (a.name < b.name ? -1 : 1));
  return best?.id ?? null;
}
