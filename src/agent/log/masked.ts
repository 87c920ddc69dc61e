/** The one place through which every line goes: what a piece of work prints, without the values of its secrets. */
import type { Issue } from '../../core/errors/errors.js';
import { makeMasker, type Masker } from '../../core/secrets/mask.js';
import type { AttemptReport } from '../../wire/rooms/work.js';
import type { KeptLog } from './keptlog.js';

/** How an attempt has ended, as it is reported. */
export type Ended = Extract<AttemptReport['happenings'][number], { what: 'ended' }>;

/** The masker of a piece of work: `secret` names the variables whose values are masked. */
export const maskerOf = (work: { variables: Record<string, string>; secret: readonly string[] }): Masker =>
  makeMasker(
    Object.fromEntries(
      work.secret.flatMap((name) => (work.variables[name] === undefined ? [] : [[name, work.variables[name]]])),
    ),
  );

export function maskLog(log: KeptLog, masker: Masker): KeptLog {
  let command = 0;
  const letGo = () => {
    const rest = masker.rest();
    return rest.length === 0 || log.write(rest, command);
  };
  return {
    write(bytes, of) {
      // What a command held back at its end is its own.
      if (of !== command) letGo();
      command = of;
      return log.write(masker.take(bytes), of);
    },
    drained: () => log.drained(),
    lines: () => log.lines(),
    async flush() {
      letGo();
      await log.flush();
    },
  };
}

/** An issue whose texts are masked; its code stays what it is. */
export const maskIssue = (one: Issue, masker: Masker): Issue => ({
  ...one,
  data: Object.fromEntries(
    Object.entries(one.data).map(([key, value]) => [key, typeof value === 'string' ? masker.text(value) : value]),
  ),
});

/** How an attempt ended; its tests were masked before they were read. */
export const maskEnded = (ended: Ended, masker: Masker): Ended => ({
  ...ended,
  issue: ended.issue && (maskIssue(ended.issue as Issue, masker) as never),
});
