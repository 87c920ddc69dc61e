/** compare: two releases beside each other, as they are or as they are deployed somewhere. */
import type { Command } from 'commander';
import { CodedError } from '../../core/errors/errors.js';
import type { Comparison } from '../../wire/compare.js';
import { get, projectName } from '../api.js';
import { bold, bytes, faint, plain, say, short, table } from '../print.js';
import { give, type Shared, shared } from './shared.js';

/** Lines of each kind that are printed; all of them with `--json`. */
const most = 20;

export function compareCommands(program: Command): void {
  shared(
    program
      .command('compare <from> <to>')
      .description(
        'show what differs between two environments (production or sailings/production), releases (r57) or deployments (d12)',
      ),
    'tsunagi compare production staging',
  ).action(async (from: string, to: string, options: Shared) => {
    const sides = [from, to].map(sideOf);
    const named = [...new Set(sides.flatMap((one) => one.project ?? []))];
    if (named.length > 1 || (named[0] && options.project && named[0] !== options.project))
      throw new CodedError('usage', {
        detail: `Both sides must be of one project; these are of ${[...named, ...(options.project ? [options.project] : [])].join(' and ')}.`,
        command: 'compare',
      });
    const project = named[0] ?? (await projectName(options.project));
    const [before, after] = sides.map((one) => encodeURIComponent(one.name));
    const query = `from=${before}&to=${after}`;
    give(options, await get<Comparison>(`/api/projects/${encodeURIComponent(project)}/compare?${query}`), show);
  });
}

/** `sailings/production`, or `production` of the project that is chosen otherwise. */
function sideOf(text: string): { project: string | null; name: string } {
  const at = text.indexOf('/');
  return at < 0 ? { project: null, name: text } : { project: text.slice(0, at), name: text.slice(at + 1) };
}

const sideText = ({ name, environment, release, deployment, commit }: Comparison['from']): string =>
  [
    bold(plain(name)),
    ...(name === `r${release}` ? [] : [`r${release}`]),
    ...(deployment === null || name === `d${deployment}` ? [] : [`d${deployment}`]),
    ...(environment === null || name === environment ? [] : [plain(environment)]),
    faint(`${short(commit.id)} ${plain(commit.title)}`),
  ].join('  ');

function list<T>(title: string, all: readonly T[], text: (one: T) => string): void {
  if (all.length === 0) return;
  say('', bold(`${title}  ${all.length}`));
  for (const one of all.slice(0, most)) say(`  ${text(one)}`);
  if (all.length > most) say(faint(`  and ${all.length - most} more`));
}

function show(one: Comparison): void {
  say(`${sideText(one.from)}  →  ${sideText(one.to)}`);
  const commit = ({ id, title, author, pull }: Comparison['commits'][number]) =>
    `${short(id)} ${plain(title)}  ${faint(`${plain(author)}${pull === null ? '' : ` · #${pull}`}`)}`;
  list('Commits', one.commits, commit);
  list('Commits that go', one.lost, commit);
  list(
    'Not in main',
    one.notInMain,
    ({ id, title, author }) => `${short(id)} ${plain(title)}  ${faint(plain(author))}`,
  );
  say('', bold('Parts'));
  say(
    table(
      ['PART', 'BYTES', 'FILES', 'SIZE'],
      one.parts.map((part) => [
        plain(part.name),
        part.from === part.to
          ? 'the same'
          : `${part.from?.slice(7, 15) ?? 'none'} → ${part.to?.slice(7, 15) ?? 'none'}`,
        part.files === null ? 'bytes are gone' : part.files.count ? `${part.files.count} differ` : '',
        part.fromSize === part.toSize ? bytes(part.toSize) : `${bytes(part.fromSize)} → ${bytes(part.toSize)}`,
      ]),
    ),
  );
  for (const part of one.parts)
    list(`Files of ${plain(part.name)}`, part.files?.changes ?? [], ({ path, what, from, to }) => {
      const size = [from, to].map((size) => (size === null ? 'none' : bytes(size))).join(' → ');
      return `${what.padEnd(8)} ${plain(path)}  ${faint(size)}`;
    });
  const values = ({ from, to }: { from: string | null; to: string | null }) =>
    `${from === null ? 'none' : plain(from)} → ${to === null ? 'none' : plain(to)}`;
  list('Variables', one.variables ?? [], (each) =>
    each.secret ? `${plain(each.name)}  secret, ${each.what}` : `${plain(each.name)}  ${values(each)}`,
  );
  list('Resources', one.resources, (each) => `${plain(each.name)}  ${values(each)}`);
  list('Migrations', one.migrations, ({ path, what }) => `${what.padEnd(8)} ${plain(path)}`);
  list('Sizes', one.sizes ?? [], (each) => `${plain(each.name)}  ${values(each)}`);
  list('Tools', one.tools, (each) => `${plain(each.name)}  ${values(each)}`);
  if (one.definition) {
    const lines = one.definition.split('\n');
    say('', bold('Definition'));
    for (const line of lines.slice(0, 200)) say(`  ${plain(line)}`);
    if (lines.length > 200) say(faint(`  and ${lines.length - 200} lines more`));
  }
  if (one.variables === null)
    say('', faint('Variables and sizes are those of deployments: compare environments to see them.'));
}
