/** variable list, set, remove, import. */
import { readFileSync } from 'node:fs';
import type { Command } from 'commander';
import { CodedError } from '../../../core/errors/errors.js';
import type { VariableChangeBody, VariableChanges, Variables } from '../../../wire/environments/variables.js';
import { get, post, projectName } from '../../api.js';
import { ago, bold, faint, plain, say, table } from '../../print.js';
import { give, type Shared, shared } from '../shared.js';

interface For extends Shared {
  for?: string;
}

/** `sailings/staging`, `staging`, or nothing for the whole project. */
async function placeOf(options: For): Promise<{ path: string; environment: string | null; shown: string }> {
  const at = options.for?.indexOf('/') ?? -1;
  const project = at > 0 ? (options.for as string).slice(0, at) : await projectName(options.project);
  const environment = options.for ? options.for.slice(at + 1) : null;
  return {
    path: `/api/projects/${encodeURIComponent(project)}/variables`,
    environment,
    shown: environment ? `${project}/${environment}` : project,
  };
}

const forOption = (command: Command): Command =>
  command.option('--for <environment>', 'the environment; default: the whole project');

export function variableCommands(program: Command): void {
  const variable = program.command('variable').description('variables and secrets of a project and its environments');

  shared(
    variable.command('list').description('what is set, and what is required but not set'),
    'tsunagi variable list --project sailings',
  ).action(async (options: Shared) => {
    const { path } = await placeOf(options);
    give(options, await get<Variables>(path), ({ items, wanted }) => {
      if (items.length)
        say(
          table(
            ['VARIABLE', 'FOR', 'VALUE', 'SET'],
            items.map((one) => [
              one.name,
              one.environment ?? 'the project',
              one.secret ? faint('secret') : plain(one.value ?? ''),
              `${ago(one.at)} by ${plain(one.by)}`,
            ]),
          ),
        );
      else say('Nothing is set.');
      const missing = wanted.filter((one) => one.missing.length);
      if (missing.length)
        say(
          '',
          bold('Wanted, and not set'),
          ...missing.map(
            (one) =>
              `${one.name}${one.secret ? ' (secret)' : ''} for ${one.missing.join(', ')}${one.about ? faint(`  ${plain(one.about)}`) : ''}`,
          ),
        );
    });
  });

  forOption(
    shared(
      variable.command('set <pairs...>').description('set variables; they take effect with the next deployment'),
      'tsunagi variable set LOG_LEVEL=debug --for sailings/staging',
    ),
  )
    .option('--secret', 'their values are never shown again; NAME alone is read from standard input')
    .action(async (pairs: string[], options: For & { secret?: boolean }) => {
      const { path, environment, shown } = await placeOf(options);
      const set = pairs.map((pair) => {
        const at = pair.indexOf('=');
        if (at > 0) return { name: pair.slice(0, at), value: pair.slice(at + 1), secret: options.secret === true };
        // Not on the command line, where other users of the machine and the shell's history see it.
        if (options.secret && pairs.length === 1)
          return { name: pair, value: readFileSync(0, 'utf8').replace(/\r?\n$/, ''), secret: true };
        throw new CodedError('usage', { detail: `\`${pair}\` is no NAME=VALUE.`, command: 'variable set' });
      });
      give(options, await post<VariableChanges>(path, { environment, set }), (answer) => told(answer, shown));
    });

  forOption(
    shared(
      variable.command('remove <names...>').description('remove variables'),
      'tsunagi variable remove LOG_LEVEL --for sailings/staging',
    ),
  ).action(async (names: string[], options: For) => {
    const { path, environment, shown } = await placeOf(options);
    give(options, await post<VariableChanges>(path, { environment, remove: names }), (answer) => told(answer, shown));
  });

  forOption(
    shared(
      variable
        .command('import <file>')
        .description('set what a dotenv file says (- is standard input); what changes is shown first'),
      'tsunagi variable import .env --for sailings/staging',
    ),
  )
    .option(
      '--secrets <names>',
      'which of them are secrets, with commas between; default: those whose names speak of one',
    )
    .option('-y, --yes', 'do not ask')
    .action(async (file: string, options: For & { secrets?: string; yes?: boolean }) => {
      const { path, environment, shown } = await placeOf(options);
      const body: VariableChangeBody = {
        environment,
        text: readText(file),
        ...(options.secrets === undefined
          ? {}
          : {
              secrets: options.secrets
                .split(',')
                .map((one) => one.trim())
                .filter(Boolean),
            }),
      };
      const preview = await post<VariableChanges>(`${path}/preview`, body);
      const broken = preview.issues.some((one) => one.severity === 'error');
      if (!options.json || broken) showPreview(preview, shown);
      if (broken) {
        process.exitCode = 1;
        return;
      }
      if (preview.changes.every((one) => one.what === 'same'))
        return give(options, preview, () => say('Nothing changes.'));
      if (!options.yes && !options.json && !(await confirmed(file))) return say('Nothing was changed.');
      give(options, await post<VariableChanges>(path, body), (answer) => told(answer, shown));
    });
}

function readText(file: string): string {
  try {
    return readFileSync(file === '-' ? 0 : file, 'utf8');
  } catch (error) {
    throw new CodedError('usage', {
      detail: `${file} cannot be read: ${(error as NodeJS.ErrnoException).code ?? (error as Error).message}`,
      command: 'variable import',
    });
  }
}

function showPreview({ changes, issues }: VariableChanges, shown: string): void {
  for (const one of issues) say(`line ${one.line}: ${plain(one.says)} ${faint(plain(one.next))}`);
  if (changes.length === 0) return;
  say(
    bold(`For ${shown}`),
    table(
      ['VARIABLE', 'WOULD BE', ''],
      changes.map((one) => [one.name, one.what, one.secret ? faint('secret') : '']),
    ),
  );
}

/** Asks on a terminal; without one nobody can answer. */
async function confirmed(file: string): Promise<boolean> {
  if (file === '-' || !process.stdin.isTTY)
    throw new CodedError('usage', { detail: 'Nobody can be asked here.', command: 'variable import' });
  const { createInterface } = await import('node:readline/promises');
  const asking = createInterface({ input: process.stdin, output: process.stderr });
  const answer = await asking.question('Set these? [y/N] ');
  asking.close();
  return /^y(es)?$/i.test(answer.trim());
}

function told({ version, changes }: VariableChanges, shown: string): void {
  if (version === null) {
    say('Nothing changes.');
    return;
  }
  const names = (what: string[]) => changes.filter((one) => what.includes(one.what)).map((one) => one.name);
  const [set, removed] = [names(['new', 'changed']), names(['removed'])];
  if (set.length) say(`${set.join(', ')} ${set.length === 1 ? 'is' : 'are'} set for ${shown}.`);
  if (removed.length) say(`${removed.join(', ')} ${removed.length === 1 ? 'is' : 'are'} removed from ${shown}.`);
  say(faint('It takes effect with the next deployment.'));
}
