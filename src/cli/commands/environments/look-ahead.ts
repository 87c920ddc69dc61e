/** deploy --look: what a deployment would make and start, and what that costs. */
import { CodedError } from '../../../core/errors/errors.js';
import { costText, countText } from '../../../core/ahead.js';
import type { LastLook } from '../../../wire/environments/environments.js';
import { environmentPlace, get } from '../../api.js';
import { bold, bytes, faint, plain, say, table } from '../../print.js';
import { give, numberOf, type Shared } from '../shared.js';

export async function lookAhead(environment: string, release: string, options: Shared): Promise<void> {
  const place = await environmentPlace(environment, options.project);
  const number = numberOf(release, 'r');
  if (number === null)
    throw new CodedError('usage', {
      detail: `\`${plain(release)}\` is no release; one looks like r57.`,
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
