/** Releases of several projects that go together, or none of them. */
import { CodedError } from '../../../core/errors/errors.js';
import { deploymentMoving, jointMoving } from '../../../core/states.js';
import type { Together } from '../../../wire/environments/together.js';
import type { Promotion } from '../../../wire/releases.js';
import { environmentPlace, get, post } from '../../api.js';
import { bold, faint, plain, say, state, table } from '../../print.js';
import { give, numberOf, type Shared } from '../shared.js';
import { showPromotion } from './rules.js';

/** Milliseconds between two looks. */
const askMs = 500;

const usage = (detail: string) => new CodedError('usage', { detail, command: 'promote' });

/** `sailings`, or `sailings=r57`. */
function memberOf(text: string): { project: string; release?: number } {
  const at = text.indexOf('=');
  if (at < 0) return { project: text };
  const release = numberOf(text.slice(at + 1), 'r');
  if (release === null) throw usage(`\`${text.slice(at + 1)}\` is not a release; one looks like r57.`);
  return { project: text.slice(0, at), release };
}

export async function promoteTogether(
  texts: readonly string[],
  { to, wait, check, ...options }: Shared & { to: string; wait: boolean; check?: boolean },
): Promise<void> {
  if (to.includes('/')) throw usage('With --together, `--to` is a name that the environment has in each project.');
  const projects = texts.map(memberOf);
  if (check) return checkAll(projects, to, options);
  const asked = await post<Together>('/api/joint-promotions', { environment: to, projects });
  if (!options.json) {
    say(bold(`j${asked.number}: ${asked.members.length} projects to ${plain(asked.environment)}, together`));
    say(
      table(
        ['PROJECT', 'RELEASE', 'DEPLOYMENT'],
        asked.members.map((one) => [plain(one.project), `r${one.release}`, `d${one.deployment}`]),
      ),
    );
  }
  const done = wait ? await followTogether(asked.number, !options.json) : asked;
  give(options, done, () => {});
  if (done.state === 'ended' || done.state === 'returned') process.exitCode = 1;
}

/** The rules of each; it is allowed when all are. */
async function checkAll(
  projects: readonly { project: string; release?: number }[],
  to: string,
  options: Shared,
): Promise<void> {
  const all: Promotion[] = [];
  for (const { project, release } of projects) {
    const { path } = await environmentPlace(`${project}/${to}`, undefined);
    all.push(await get<Promotion>(`${path}/promotion${release === undefined ? '' : `?release=${release}`}`));
  }
  give(options, all, () => {
    for (const one of all) {
      showPromotion(one);
      say('');
    }
    const not = all.filter(({ allowed }) => !allowed).map(({ project }) => plain(project));
    say(
      not.length ? `None may go before ${not.join(', ')} may.` : 'All of them may go.',
      faint(
        'Together, the traffic of all moves at one moment: copies of requests and shares are left out, bounds count.',
      ),
    );
  });
  if (all.some(({ allowed }) => !allowed)) process.exitCode = 1;
}

/** `j3`: all that went together goes back. */
export async function takeBack(number: number, { wait, ...options }: Shared & { wait: boolean }): Promise<void> {
  const asked = await post<Together>(`/api/joint-promotions/${number}/back`);
  if (!options.json) say(`j${number}: ${asked.members.map(({ project }) => plain(project)).join(', ')} go back.`);
  const done = wait ? await followTogether(number, !options.json) : asked;
  give(options, done, () => {});
}

export const jointNumber = (text: string): number | null => {
  const found = /^j([1-9]\d{0,8})$/.exec(text);
  return found ? Number(found[1]) : null;
};

async function followTogether(number: number, talk: boolean): Promise<Together> {
  let last = '';
  for (;;) {
    const one = await get<Together>(`/api/joint-promotions/${number}`);
    const line = one.members
      .map(({ project, state: now, revert }) =>
        revert
          ? `${plain(project)} ${revert.state === 'live' ? 'is back' : `goes back, ${revert.state}`}`
          : `${plain(project)} ${state(now ?? 'gone')}`,
      )
      .join(', ');
    if (talk && `${one.state} ${line}` !== last) say(`  ${line}`);
    last = `${one.state} ${line}`;
    // What goes back is over when each has what was before.
    const open =
      jointMoving(one.state) ||
      (one.state === 'live' && one.back !== null) ||
      one.members.some(
        ({ state: now, revert }) =>
          (now !== null && deploymentMoving(now)) || (revert !== null && deploymentMoving(revert.state)),
      );
    if (!open) {
      if (talk) say(one.state === 'live' ? bold(plain(one.sentence)) : plain(one.sentence));
      if (talk && one.issue) say(faint(plain(one.issue.next)));
      return one;
    }
    await new Promise((resolve) => setTimeout(resolve, askMs));
  }
}
