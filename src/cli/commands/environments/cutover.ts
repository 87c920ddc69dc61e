/** cutover: how the traffic moves in steps, and what one says to that. */
import type { Command } from 'commander';
import { durationText } from '../../../core/durations.js';
import { CodedError } from '../../../core/errors/errors.js';
import type { Cutover } from '../../../wire/environments/cutover.js';
import { environmentPlace, get, post } from '../../api.js';
import { bold, faint, plain, say, table } from '../../print.js';
import { give, type Shared, shared } from '../shared.js';

const percent = (share: number): string => `${Number((share * 100).toPrecision(3))} %`;
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
    .action(async (text: string, options: Shared & { stay?: boolean; goOn?: boolean; back?: boolean }) => {
      const place = await environmentPlace(text, options.project);
      const said = [options.stay && 'stay', options.goOn && 'go on', options.back && 'back'].filter(Boolean);
      if (said.length > 1)
        throw new CodedError('usage', { detail: 'Say one of --stay, --go-on, --back.', command: 'cutover' });
      const path = `${place.path}/cutover`;
      const seen = await get<Cutover>(path);
      if (said.length === 0) return give(options, seen, show);
      give(options, await post<Cutover>(path, { order: said[0], stage: seen.stage }), show);
    });
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
  if (one.ordered) say(`  ${plain(one.ordered.by)} said: ${one.ordered.order}`);
  else if (one.stepLeftMs !== null && step?.at !== 'all')
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
