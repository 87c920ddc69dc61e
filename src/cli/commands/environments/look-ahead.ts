/** deploy --look: what a deployment would make and start, and its cost. revert --dry-run: what it would do, and where else it can go. */
import { CodedError } from '../../../core/errors/errors.js';
import { costText, countText } from '../../../core/ahead.js';
import type { LastLook, RevertAhead } from '../../../wire/environments/environments.js';
import { environmentPlace, get } from '../../api.js';
import { ago, bold, bytes, faint, plain, say, table } from '../../print.js';
import { give, numberOf, type Shared } from '../shared.js';

export async function lookAhead(environment: string, release: string, options: Shared): Promise<void> {
  const place = await environmentPlace(environment, options.project);
  const number = numberOf(release, 'r');
  if (number === null)
    throw new CodedError('usage', {
      detail: `\`${plain(release)}\` is not a release; one looks like r57.`,
      command: 'deploy',
    });
  give(options, await get<LastLook>(`${place.path}/look?release=${number}`), (one) => show(one, place));
}

function show(one: LastLook, { project, name }: { project: string; name: string }): void {
  say(bold(`r${one.release} in ${plain(project)}/${plain(name)}`), '');
  const there = (yes: boolean) => (yes ? 'there, and kept' : 'is made');
  say(
    table(
      ['PART', 'KIND', 'INSTANCES', 'MEMORY', 'CORES'],
      one.parts.map((part) => [
        plain(part.name),
        part.kind,
        part.size ? countText(part.size) : '',
        part.size ? (part.size.memory === null ? 'as agents give' : bytes(part.size.memory)) : '',
        part.size ? (part.size.cpu === null ? 'what is free' : String(part.size.cpu)) : '',
      ]),
    ),
  );
  for (const item of one.resources) say(`${item.kind} ${bold(plain(item.name))}  ${there(item.there)}`);
  for (const item of one.addresses) say(`address ${bold(plain(item.host))}  ${there(item.there)}`);
  if (one.prepare) say(`before: ${plain(one.prepare)}`);
  for (const file of one.migrations) say(`  ${plain(file.path)}  ${file.what}`);
  if (one.unset.length) say(`It would be refused: nobody has set ${plain(one.unset.join(', '))}.`);
  say(costText(one) ?? faint('No prices are set: `tsunagi cost` says how.'));
}

export async function revertAhead(environment: string, release: string | undefined, options: Shared): Promise<void> {
  const place = await environmentPlace(environment, options.project);
  const number = release === undefined ? null : numberOf(release, 'r');
  if (release !== undefined && number === null)
    throw new CodedError('usage', {
      detail: `\`${plain(release)}\` is no release; one looks like r57.`,
      command: 'revert',
    });
  const query = number === null ? '' : `?release=${number}`;
  give(options, await get<RevertAhead>(`${place.path}/revert${query}`), showRevert);
}

function showRevert(one: RevertAhead): void {
  showEffects(one);
  if (one.candidates.length === 0) return;
  say('', bold('What can be gone back to, the nearest first'));
  say(
    table(
      ['DEPLOYMENT', 'RELEASE', 'LIVE SINCE', 'UNTIL', 'BROUGHT BY', 'SERVERS', 'COMMIT'],
      one.candidates.map((item) => [
        `d${item.deployment}`,
        `r${item.release}`,
        ago(item.liveAt),
        item.leftAt ? ago(item.leftAt) : '',
        `${item.kind}${item.kind === 'automatic' ? '' : `, ${plain(item.actor)}`}`,
        item.warm ? 'warm' : 'ended',
        plain(item.commit.title),
      ]),
    ),
    faint('Another one: `tsunagi revert … --release rN`'),
  );
}

function showEffects(one: RevertAhead): void {
  say(bold(`${plain(one.project)}/${plain(one.environment)} back to r${one.release}`));
  for (const number of one.ends) say(`  d${number}, which is on its way, is ended`);
  if (one.keeps) {
    say('  what is live keeps the traffic; nothing is started');
    return;
  }
  say(`  ${one.warm ? 'its servers are warm and take the traffic at once' : 'new servers are started'}`);
  for (const { name, then, now } of one.variables)
    say(`  ${plain(name)}: ${then === null ? 'none' : plain(then)} again, ${now === null ? 'none' : plain(now)} now`);
  if (one.variables.length) say(faint('  with `--variables now` they stay as they are now'));
  if (one.secrets.length) say(`  secrets of now: ${plain(one.secrets.join(', '))}`);
  say('It does not undo:');
  if (one.writtenSince) say(`  data that was written since ${one.writtenSince}`);
  for (const path of one.migrations)
    say(`  ${plain(path)}${one.oneWay.includes(path) ? bold('  one-way: refused without --one-way') : ''}`);
  for (const name of one.unused) say(`  ${plain(name)}, which stays and is used by nothing then`);
  for (const name of one.anew) say(`  the end of ${plain(name)}: it is made again, empty`);
  say(`Then ${plain(one.environment)} is on hold, so that the next push does not bring r${one.live ?? ''} back.`);
}
