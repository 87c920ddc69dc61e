/** cutover: how the traffic moves in steps, and what one says to that. */
import type { Command } from 'commander';
import { percent } from '../../../core/cutover/percent.js';
import { durationText } from '../../../core/durations.js';
import { CodedError } from '../../../core/errors/errors.js';
import type { Cutover, FirstLook } from '../../../wire/environments/cutover.js';
import type { Deployment } from '../../../wire/environments/environments.js';
import { environmentPlace, get, post } from '../../api.js';
import { bold, faint, plain, say, table } from '../../print.js';
import { give, type Shared, shared } from '../shared.js';

const rate = ({ units, bad }: { units: number; bad: number }): string => (units === 0 ? '' : percent(bad / units));

const ms = (value: number | null): string => (value === null ? 'unknown' : `${Math.round(value)} ms`);

export function cutoverCommands(program: Command): void {
  shared(
    program
      .command('cutover <environment>')
      .description('how its traffic moves to a new release in steps; stay, go on, or take it back'),
    'tsunagi cutover sailings/production --stay',
  )
    .option('--stay', 'stay in this step until somebody lets it go on')
    .option('--go-on', 'the next step, now')
    .option('--back', 'all of the traffic goes back')
    .option('--first-look', 'a header and a link with which one sees the new release, whatever its share')
    .action(
      async (
        text: string,
        options: Shared & { stay?: boolean; goOn?: boolean; back?: boolean; firstLook?: boolean },
      ) => {
        const place = await environmentPlace(text, options.project);
        const said = [options.stay && 'stay', options.goOn && 'go on', options.back && 'back'].filter(Boolean);
        if (said.length > 1)
          throw new CodedError('usage', { detail: 'Say one of --stay, --go-on, --back.', command: 'cutover' });
        const path = `${place.path}/cutover`;
        if (options.firstLook)
          return give(options, await get<FirstLook>(`${path}/first-look`), (one) =>
            say(`Tsunagi-Release: ${one.header}`, plain(one.link), faint(`r${one.release}, until ${one.until}`)),
          );
        const seen = await get<Cutover>(path);
        if (said.length === 0) return give(options, seen, show);
        give(options, await post<Cutover>(path, { order: said[0], stage: seen.stage }), show);
      },
    );

  shared(
    program
      .command('split <environment>')
      .description('two releases beside each other for as long as wanted; `cutover --go-on` or `--back` ends it'),
    'tsunagi split sailings/production --between r54,r57 --share 50,50',
  )
    .requiredOption('--between <releases>', 'what is live, and the other one')
    .option('--share <shares>', 'of the traffic, of each', '50,50')
    .action(async (text: string, options: Shared & { between: string; share: string }) => {
      const place = await environmentPlace(text, options.project);
      const found = /^r(\d{1,9}),r(\d{1,9})$/.exec(options.between);
      if (!found)
        throw new CodedError('usage', {
          detail: `\`${options.between}\` are no two releases: r54,r57.`,
          command: 'split',
        });
      const asked = await post<Deployment>(`${place.path}/deployments`, {
        kind: 'promote',
        release: Number(found[2]),
        split: { share: shareOf(options.share), beside: Number(found[1]) },
      });
      give(options, asked, (one) =>
        say(
          `d${one.number}: r${one.release} gets its share of ${plain(one.project)}/${plain(one.environment)} when it is ready.`,
          faint(`\`tsunagi cutover ${plain(one.project)}/${plain(one.environment)}\` shows both, and ends it.`),
        ),
      );
    });
}

/** `50,50` for two sides → the share of the second, 0 to 1. */
function shareOf(text: string): number {
  const found = /^(\d{1,2}),(\d{1,2})$/.exec(text);
  if (!found || Number(found[1]) + Number(found[2]) !== 100 || Number(found[2]) === 0)
    throw new CodedError('usage', {
      detail: `\`${text}\` is no share of two; one looks like 50,50.`,
      command: 'split',
    });
  return Number(found[2]) / 100;
}

function seen({ figure, wouldSee, signAt }: Cutover['tests'][number]): string {
  if (figure === 'rate' || figure === 'p95' || figure === 'same') return '';
  if (signAt !== null) return `${percent(signAt)} would be seen`;
  return wouldSee === null ? 'too few to see' : `${wouldSee}× as many would be seen`;
}

function show(one: Cutover): void {
  const release = `r${one.deployment.release}`;
  const beside = one.beside ? `r${one.beside.release}` : 'what was there';
  const step = one.step === null ? null : one.steps[one.step];
  say(
    bold(
      step === null
        ? `${beside} has all of the traffic of ${plain(one.project)}/${plain(one.environment)} again`
        : `${release} takes ${percent(one.share)} of the traffic of ${plain(one.project)}/${plain(one.environment)}`,
    ),
  );
  const steps = one.steps.map((item, at) => {
    const words = item.at === 'all' ? 'all' : item.at === 'mirror' ? 'mirror' : percent(item.share);
    return at === one.step ? bold(`[${words}]`) : words;
  });
  say(`  ${steps.join(' → ')}`);
  if (one.split)
    say(
      one.better
        ? `  ${one.better === 'now' ? release : beside} does better: the other one has shown a sign that it is worse`
        : '  none of the two has shown a sign that it is worse than the other',
    );
  if (one.ordered) say(`  ${plain(one.ordered.by)} said: ${one.ordered.order}`);
  else if (one.stepLeftMs !== null && one.leftMs !== null && step?.at !== 'all')
    say(faint(`  ${durationText(one.stepLeftMs)} left of this step, ${durationText(one.leftMs)} of the way`));
  if (one.watchedUntil) say(faint(`  its bounds hold until ${one.watchedUntil}`));
  for (const issue of [one.waits, one.worse]) if (issue) say(`  ${plain(issue.says)}`, faint(`  ${plain(issue.next)}`));
  const { mirrored } = one;
  if (mirrored) {
    const differ = [
      `${mirrored.status} by status`,
      `${mirrored.kind} by kind`,
      `${mirrored.length} by length`,
      ...(mirrored.same ? [`${mirrored.differ} of ${mirrored.same} that must be equal`] : []),
    ];
    say(
      `  ${mirrored.compared} copies compared: ${differ.join(', ')} differ`,
      faint(
        `  p95 ${ms(mirrored.nowP95)} beside ${ms(mirrored.oldP95)}; ${mirrored.dropped} left out, stopped ${mirrored.rested} times for the originals’ sake`,
      ),
    );
  }
  if (one.tests.length === 0) {
    say(faint('  Nothing has been counted yet.'));
    return;
  }
  const words = {
    errors: 'met an error',
    slow: 'met a slow answer',
    rate: 'errors',
    p95: 'above the bound',
    same: 'differ',
  };
  say(
    table(
      ['FIGURE', 'PART', 'PATH', release, beside, 'SIGN', ''],
      one.tests.map((row) => [
        words[row.figure],
        plain(row.part),
        plain(row.path),
        `${rate(row.now)} of ${row.now.units}`,
        row.old.units ? `${rate(row.old)} of ${row.old.units}` : '',
        row.towards >= 1 ? 'worse' : `${Math.round(row.towards * 100)} %`,
        faint(seen(row)),
      ]),
    ),
  );
}
