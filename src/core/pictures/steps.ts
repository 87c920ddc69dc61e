/**
 * Pictures of what a deployment shows, taken beside what is live where its change leads to. Each call gets the facts; what it gives is
 * to be done, and recorded with what comes of it.
 *
 * | state    | in it                                             | left when                                                        |
 * |----------|---------------------------------------------------|------------------------------------------------------------------|
 * | asked    | it waits to be taken                              | its deployment is shown, awake, and an agent can → taking; shown no more → left out |
 * | taking   | an agent takes it                                 | passed → taken; failed → failed; lost, or asleep meanwhile → asked, a few times; shown no more → left out |
 * | taken    | final: what it shows is kept, and how much differs |                                                                  |
 * | failed   | final: why is said                                | somebody asks again → asked                                       |
 * | left out | final: another deployment came before it           | somebody asks again → asked                                       |
 */
import { type Issue, issue } from '../errors/errors.js';
import type { AttemptState, PictureState } from '../states.js';

export interface PictureFacts {
  state: PictureState;
  /** Its deployment is what its environment shows. */
  shown: boolean;
  /** Whoever asks for it now is answered at once: it neither sleeps nor moves. */
  awake: boolean;
  /** An agent takes pictures. */
  able: boolean;
  /** Times that it was lost with its agent, or met an environment asleep. */
  tries: number;
  /** What takes it. */
  attempt: { state: AttemptState; why: string } | null;
}

export type PictureStep =
  /** Until something of its facts is otherwise: whoever changes one says so; `looks`: but for the sleep of its environment. */
  | { do: 'wait'; looks?: true }
  | { do: 'take' }
  /** It is there: what an agent has handed over is to be looked at, and kept. */
  | { do: 'keep' }
  | { do: 'again' }
  | { do: 'leave out' }
  /** What takes it shall end; then it is left out. */
  | { do: 'stop' }
  | { do: 'fail'; issue: Issue };

/** Times that one is begun anew before a person must ask. */
export const mostPictureTries = 3;

export function pictureStep({ state, shown, awake, able, tries, attempt }: PictureFacts): PictureStep {
  switch (state) {
    case 'taken':
    case 'failed':
    case 'left out':
      return { do: 'wait' };
    case 'asked':
      if (!shown) return { do: 'leave out' };
      if (!able) return { do: 'wait' };
      return awake ? { do: 'take' } : { do: 'wait', looks: true };
    case 'taking':
      switch (attempt?.state) {
        case 'waiting':
        case 'running':
          return shown ? { do: 'wait' } : { do: 'stop' };
        case 'passed':
          return { do: 'keep' };
        case 'failed':
          return shown ? { do: 'fail', issue: issue('picture_failed', { detail: attempt.why }) } : { do: 'leave out' };
        default:
          // Stopped, lost, or nobody has made one.
          return pictureAgain({ shown, tries });
      }
    default:
      return state satisfies never;
  }
}

/** What becomes of one that was begun in vain. */
export function pictureAgain({
  shown,
  tries,
}: Pick<PictureFacts, 'shown' | 'tries'>): Extract<PictureStep, { do: 'leave out' | 'again' | 'fail' }> {
  if (!shown) return { do: 'leave out' };
  return tries + 1 < mostPictureTries
    ? { do: 'again' }
    : { do: 'fail', issue: issue('picture_lost', { tries: tries + 1 }) };
}
