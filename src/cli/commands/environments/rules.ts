/** The rules of environments: how they stand, who approves, when nothing is taken. */
import type { Command } from 'commander';
import { durationText, parseDuration } from '../../../core/durations.js';
import { CodedError } from '../../../core/errors/errors.js';
import type { Approvals, EnvironmentRules, Rule } from '../../../wire/environments/rules.js';
import type { Promotion } from '../../../wire/releases.js';
import { call, environmentPlace, get, post } from '../../api.js';
import { bold, faint, plain, say, state, table } from '../../print.js';
import { give, numberOf, type Shared, shared } from '../shared.js';

const usage = (detail: string, command: string) => new CodedError('usage', { detail, command });

/** A time by the clocks of this machine, with its zone. */
const when = (iso: string): string =>
  new Date(iso)
    .toLocaleString('en-GB', {
      weekday: 'short',
      day: 'numeric',
      month: 'short',
      hour: '2-digit',
      minute: '2-digit',
      timeZoneName: 'short',
    })
    .replace(',', '');

export function ruleCommands(program: Command): void {
  shared(
    program
      .command('approve <release>')
      .description('say of these very bytes that they may go there; a newer release needs new approvals'),
    'tsunagi approve r57 --for sailings/production',
  )
    .requiredOption('--for <environment>', 'where')
    .option('--withdraw', 'take your own approval back')
    .action(async (text: string, options: Shared & { for: string; withdraw?: boolean }) => {
      const release = numberOf(text, 'r');
      if (release === null) throw usage(`\`${text}\` is not a release; one looks like r57.`, 'approve');
      const place = await environmentPlace(options.for, options.project);
      const answer = await post<Approvals>(`${place.path}/approvals`, {
        release,
        ...(options.withdraw ? { withdraw: true } : {}),
      });
      give(options, answer, (one) => {
        const counting = one.given.filter(({ counts }) => counts);
        say(
          `r${one.release} has ${counting.length} of ${one.needed} ${one.needed === 1 ? 'approval' : 'approvals'} for ${plain(one.environment)}.`,
        );
        for (const { by, author } of counting) say(`  ${plain(by)}${author ? faint('  has written some of it') : ''}`);
        if (counting.length > 0 && counting.every(({ author }) => author))
          say(faint('One at least of somebody who has written nothing of it is needed.'));
      });
    });

  shared(
    program.command('freeze <environment>').description('for a while it takes nothing; going back is never held up'),
    'tsunagi freeze sailings/production --for 2d --why "summer timetable begins"',
  )
    .requiredOption('--why <reason>', 'why')
    .option('--for <duration>', 'for so long: 2d')
    .option('--until <time>', 'until then: 2026-12-24T12:00:00+01:00')
    .action(async (text: string, options: Shared & { why: string; for?: string; until?: string }) => {
      const place = await environmentPlace(text, options.project);
      const answer = await post<EnvironmentRules>(`${place.path}/freeze`, { why: options.why, until: endOf(options) });
      give(options, answer, (one) =>
        say(
          `${plain(one.project)}/${plain(one.environment)} takes nothing until ${when(one.freeze?.until ?? '')}: ${plain(one.freeze?.why ?? '')}`,
          faint('A revert is possible. `tsunagi lift … --freeze` ends it sooner.'),
        ),
      );
    });

  shared(
    program
      .command('rules <environment>')
      .description(
        'the rules by which it takes releases, its frozen hours, and what main declares that does not count yet',
      ),
    'tsunagi rules sailings/production',
  )
    .option('--accept', 'what main declares counts, also where it asks for less')
    .action(async (text: string, options: Shared & { accept?: boolean }) => {
      const place = await environmentPlace(text, options.project);
      const now = await get<EnvironmentRules>(`${place.path}/rules`);
      if (!options.accept) return give(options, now, showRules);
      if (now.definition === null || now.loosened.length === 0)
        throw new CodedError('rules_same', { environment: `${place.project}/${place.name}` });
      if (!options.json) for (const one of now.loosened) say(`accepted: ${plain(one.says)}`);
      give(options, await post<EnvironmentRules>(`${place.path}/rules`, { commit: now.definition }), showRules);
    });
}

/** Ends the freeze of an owner. */
export async function endFreeze(text: string, options: Shared): Promise<void> {
  const place = await environmentPlace(text, options.project);
  give(options, await call<EnvironmentRules>('DELETE', `${place.path}/freeze`), (one) =>
    say(`${plain(one.project)}/${plain(one.environment)} is not frozen any more.`),
  );
}

function endOf(options: { for?: string; until?: string }): string {
  if ((options.for === undefined) === (options.until === undefined)) throw usage('Say --for or --until.', 'freeze');
  if (options.for !== undefined) {
    const ms = parseDuration(options.for);
    if (ms === null) throw usage(`\`${options.for}\` is not a duration; one looks like 2d.`, 'freeze');
    return new Date(Date.now() + ms).toISOString();
  }
  const until = options.until as string;
  // RFC 3339: a time without its zone would be another one elsewhere.
  const fits = /^\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)$/.test(until);
  if (!fits || Number.isNaN(Date.parse(until)))
    throw usage(`\`${until}\` is not a time with its zone; one looks like 2026-12-24T12:00:00+01:00.`, 'freeze');
  return new Date(until).toISOString();
}

/** The rules of an environment, a line each. */
export function rulesOf(one: EnvironmentRules): string[] {
  return [
    one.after === null
      ? 'takes releases of its branch, or what people deploy'
      : `takes what ${plain(one.after)} has ${one.verified ? 'verified' : 'had live'}${one.healthyMs ? ` and run in good health for ${durationText(one.healthyMs)}` : ''}`,
    ...(one.approvals ? [`${one.approvals} ${one.approvals === 1 ? 'approval' : 'approvals'}`] : []),
    ...(one.after === null ? [] : [one.automatic ? 'as soon as these allow it' : 'when a person promotes it']),
    ...one.frozen.map((text) => `frozen: ${plain(text)}`),
  ];
}

function showRules(one: EnvironmentRules): void {
  say(bold(`${plain(one.project)}/${plain(one.environment)}`));
  for (const rule of rulesOf(one)) say(`  ${rule}`);
  if (one.freeze) say(`  frozen by ${plain(one.freeze.by)} until ${when(one.freeze.until)}: ${plain(one.freeze.why)}`);
  if (one.calendar.length) {
    say('', 'Nothing is taken');
    say(
      table(
        ['FROM', 'UNTIL', 'BY'],
        one.calendar.slice(0, 12).map((span) => [when(span.from), when(span.until), faint(plain(span.text))]),
      ),
    );
  }
  if (one.loosened.length) {
    say('', 'Main declares less than what counts. A releaser may accept that, with `--accept`:');
    for (const { says } of one.loosened) say(`  ${plain(says)}`);
  }
}

/** How a promotion stands: every rule, and what would change it. Gives whether it is allowed. */
export async function checkPromotion(where: string, release: string | undefined, options: Shared): Promise<void> {
  const place = await environmentPlace(where, options.project);
  const number = release === undefined ? null : numberOf(release, 'r');
  if (release !== undefined && number === null)
    throw usage(`\`${release}\` is not a release; one looks like r57.`, 'promote');
  const one = await get<Promotion>(`${place.path}/promotion${number === null ? '' : `?release=${number}`}`);
  give(options, one, showPromotion);
  if (!one.allowed) process.exitCode = 1;
}

const changeOf = ({ change, until, whom }: Rule): string =>
  [change, until && `It is met ${when(until)} by itself.`, whom && `It needs ${whom}.`].filter(Boolean).join(' ');

export function showPromotion(one: Promotion): void {
  say(`${bold(`r${one.release.number}`)} to ${plain(one.project)}/${plain(one.environment)}`);
  say(
    table(
      ['RULE', 'STATE', 'HOW IT STANDS', 'BY WHAT, OR WHAT WOULD CHANGE IT'],
      one.rules.map((rule) => [
        rule.rule,
        state(rule.state),
        plain(rule.says),
        faint(rule.state === 'met' ? plain(rule.source ?? '') : plain(changeOf(rule))),
      ]),
    ),
  );
  for (const { says } of one.environmentRules.loosened)
    say(`Main declares less: ${plain(says)}. It does not count until a releaser accepts it.`);
  say(one.allowed ? plain(one.sentence) : `${plain(one.refusal?.says ?? '')} ${faint(plain(one.refusal?.next ?? ''))}`);
  if (!one.allowed && one.until) say(faint(`Nobody need do anything: it may be promoted ${when(one.until)}.`));
  else if (one.overridable) say(faint('An owner may override this, with `--override REASON`.'));
}
