/** Commands of releases: list, show, export, verify, import. */
import { createWriteStream, existsSync } from 'node:fs';
import { rename, rm, stat } from 'node:fs/promises';
import { pipeline } from 'node:stream/promises';
import type { Command } from 'commander';
import { CodedError } from '../../core/errors/errors.js';
import type { PageOf } from '../../wire/parts.js';
import type { Release, ReleaseDetail } from '../../wire/releases.js';
import { evidenceText } from '../../core/release/words.js';
import { jwkOf } from '../../core/release/keyset.js';
import { download, get, projectName, upload } from '../api.js';
import { ago, bold, bytes, faint, plain, say, short, state, table } from '../print.js';
import { keysOf, needFile } from '../keys.js';
import { give, numberOf, placeOfRun, type Shared, shared } from './shared.js';

export function releaseCommands(program: Command): void {
  const release = program.command('release').description('immutable bytes with evidence');
  shared(
    release.command('list').description('releases, the newest first'),
    'tsunagi release list --project sailings',
  ).action(async (options: Shared) =>
    give(
      options,
      await get<PageOf<Release>>(`/api/projects/${await projectName(options.project)}/releases`),
      ({ items }) =>
        say(
          table(
            ['RELEASE', 'BRANCH', 'COMMIT', 'RUN', 'MADE', 'TITLE'],
            items.map((one) => [
              `r${one.number}`,
              placeOfRun(one),
              short(one.commit.id),
              one.run === null ? 'import' : String(one.run),
              ago(one.createdAt),
              plain(one.commit.title),
            ]),
          ),
        ),
    ),
  );
  shared(
    release.command('show <release>').description('one release: digest, parts, evidence'),
    'tsunagi release show r57 --project sailings',
  ).action(async (text: string, options: Shared) =>
    give(
      options,
      await get<ReleaseDetail>(
        `/api/projects/${await projectName(options.project)}/releases/${numberOf(text, 'r') ?? 0}`,
      ),
      showRelease,
    ),
  );

  shared(
    release
      .command('export <release>')
      .description('write a release into a file: its images, its evidence and how it was made, signed'),
    'tsunagi release export r57 --project sailings',
  )
    .option('--to <file>', 'the file; default: PROJECT-rN.tar here')
    .action(async (text: string, options: Shared & { to?: string }) => {
      const project = await projectName(options.project);
      const number = numberOf(text, 'r') ?? 0;
      const file = options.to ?? `${project}-r${number}.tar`;
      if (existsSync(file)) throw new CodedError('export_exists', { file });
      // What broke off never has the name of a whole one.
      const part = `${file}.part`;
      try {
        await pipeline(
          await download(`/api/projects/${encodeURIComponent(project)}/releases/${number}/image`),
          createWriteStream(part),
        );
        await rename(part, file);
      } catch (error) {
        await rm(part, { force: true });
        throw error;
      }
      const { size } = await stat(file);
      give(options, { file, size }, () =>
        say(
          `${bold(`${plain(project)} r${number}`)} is written to ${file}: ${bytes(size)}.`,
          faint(`It is checked anywhere with: tsunagi release verify ${file} --key KEYS`),
        ),
      );
    });

  shared(
    release
      .command('verify <file>')
      .description('check an exported release, with no service and no network: each byte, and who vouches for it'),
    'tsunagi release verify sailings-r57.tar --key kohama-keys.json',
    { project: false },
  )
    .requiredOption('--key <file>', 'keys that you trust: what `key list --json` prints there, or a PEM file')
    .action(async (file: string, options: Shared & { key: string }) => {
      // A file of its own beside this one: few commands need what reads archives.
      const { verifyRelease } = (await import(
        new URL('./verify-run.js', import.meta.url).href
      )) as typeof import('./verify-run.js');
      await verifyRelease(file, options);
    });

  shared(
    release
      .command('import <file>')
      .description(
        'take a release in that was made elsewhere; from then on it is promoted by the rules of this project',
      ),
    'tsunagi release import sailings-r57.tar --key kohama-keys.json --project sailings',
  )
    .requiredOption('--key <file>', 'keys that you trust: what `key list --json` prints there, or a PEM file')
    .action(async (file: string, options: Shared & { key: string }) => {
      const project = await projectName(options.project);
      const query = new URLSearchParams(keysOf(options.key).map((key): [string, string] => ['key', jwkOf(key).x]));
      needFile(file);
      give(
        options,
        await upload<Release>(
          `/api/projects/${encodeURIComponent(project)}/releases/import?${query}`,
          file,
          'application/x-tar',
        ),
        (one) =>
          say(
            `${bold(`${plain(project)} r${one.number}`)} is what was made as ${plain(one.imported?.project ?? '')} r${one.imported?.number} at ${plain(one.imported?.service ?? '')}.`,
            faint(one.digest),
            `Deploy it with: tsunagi deploy r${one.number} --to ENVIRONMENT --project ${plain(project)}`,
          ),
      );
    });
}

function showRelease(release: ReleaseDetail): void {
  say(
    `${bold(`r${release.number}`)}  ${short(release.commit.id)} ${plain(release.commit.title)}`,
    faint(release.digest),
    '',
  );
  say(
    table(
      ['PART', 'KIND', 'SIZE', 'DIGEST'],
      release.parts.map((part) => [part.name, part.kind, bytes(part.size), part.digest.slice(0, 19)]),
    ),
    '',
  );
  say(
    table(
      ['EVIDENCE', 'NAME', 'FROM', 'SAYS', 'WHEN'],
      release.evidence.map((one) => [
        one.kind,
        plain(one.name),
        plain(one.source),
        plain(evidenceText(one)),
        ago(one.at),
      ]),
    ),
  );
  if (release.deployments.length)
    say(
      '',
      table(
        ['WHERE', 'DEPLOYMENT', 'STATE', 'HOW', 'WHEN'],
        release.deployments.map((one) => [
          one.environment,
          `d${one.number}`,
          state(one.state),
          one.kind === 'automatic' ? one.kind : `${one.kind} by ${plain(one.actor)}`,
          ago(one.createdAt),
        ]),
      ),
    );
  if (!release.kept) say('', 'Its bytes are let go: it can be neither deployed nor exported.');
  if (release.migrations.length) say('', `Migrations: ${plain(release.migrations.join(', '))}`);
}
