/** resource list, show, open, rotate, snapshot, backup, restore, connect, remove. */
import { createWriteStream, readFileSync } from 'node:fs';
import { createInterface } from 'node:readline';
import { pipeline } from 'node:stream/promises';
import type { Command } from 'commander';
import { CodedError } from '../../../core/errors/errors.js';
import { fillText, noticesOf } from '../../../core/notices.js';
import { durationSource, durationText } from '../../../core/durations.js';
import type { PageOf } from '../../../wire/parts.js';
import type {
  BackupView,
  OpenedLogin,
  Resource,
  ResourceDetail,
  ResourceRemoval,
  RestoreBody,
  SnapshotView,
} from '../../../wire/environments/resources.js';
import { call, download, environmentPlace, get, post } from '../../api.js';
import { ago, bold, bytes, faint, plain, printed, say, state, table } from '../../print.js';
import { streams } from '../../streams.js';
import { give, type Shared, shared } from '../shared.js';

/** Milliseconds between two questions for something that takes a while. */
const askMs = 250;
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

const usage = (detail: string, command: string) => new CodedError('usage', { detail, command });

async function resourceAt(
  environment: string,
  name: string,
  options: Shared,
): Promise<{ path: string; shown: string }> {
  const place = await environmentPlace(environment, options.project);
  return {
    path: `${place.path}/resources/${encodeURIComponent(name)}`,
    shown: `${name} of ${place.project}/${place.name}`,
  };
}

export function resourceCommands(program: Command): void {
  const resource = program.command('resource').description('databases and volumes that environments have of their own');

  shared(
    resource.command('list <environment>').description('what an environment has of its own'),
    'tsunagi resource list sailings/staging',
  ).action(async (environment: string, options: Shared) => {
    const place = await environmentPlace(environment, options.project);
    give(options, await get<PageOf<Resource>>(`${place.path}/resources`), ({ items }) => {
      if (items.length === 0) return say('It has none; `resources` of a definition declares them.');
      say(
        table(
          ['RESOURCE', 'KIND', 'STATE', 'SIZE', 'BACKUPS', ''],
          items.map((one) => [
            plain(one.name),
            one.kind,
            state(one.state),
            fillText(one.bytes, one.most),
            one.backups.kept ? `${one.backups.kept}, the last ${ago(one.backups.last)}` : 'none',
            one.issue ? plain(one.issue.says) : placed(one),
          ]),
        ),
      );
    });
  });

  shared(
    resource.command('show <environment> <name>').description('state, size, logins and backups of one'),
    'tsunagi resource show sailings/staging timetable',
  ).action(async (environment: string, name: string, options: Shared) => {
    const at = await resourceAt(environment, name, options);
    give(options, await get<ResourceDetail>(at.path), show);
  });

  shared(
    resource
      .command('open <environment> <name>')
      .description('a login of your own for an hour: its address is printed once; recorded'),
    'tsunagi resource open sailings/staging timetable',
  )
    .option('--end', 'end your logins there')
    .option('--here [port]', 'through the service, at a port of this machine, until this command is ended')
    .action(async (environment: string, name: string, options: Shared & { end?: boolean; here?: string | true }) => {
      const at = await resourceAt(environment, name, options);
      if (options.end) return endLogins(at, options);
      if (options.here !== undefined) return openHere(at, options, options.here === true ? 0 : portOf(options.here));
      give(options, await post<OpenedLogin>(`${at.path}/logins`), (one) => {
        say(one.url);
        process.stderr.write(
          `${faint(`A login of your own for ${at.shown}, good for ${durationText(Date.parse(one.until) - Date.now())}; everything in it belongs to its programs.`)}\n`,
        );
      });
    });

  shared(
    resource
      .command('rotate <environment> <name>')
      .description('new logins for its programs, which are started anew one by one; then the old ones end'),
    'tsunagi resource rotate sailings/production timetable',
  ).action(async (environment: string, name: string, options: Shared) => {
    const at = await resourceAt(environment, name, options);
    const before = await get<ResourceDetail>(at.path);
    const answer = await post<Resource>(`${at.path}/rotate`);
    const old = before.logins.filter((one) => one.usedBy === 'parts').map((one) => one.id);
    await until(at.path, 'the old logins to end', (now) => !now.logins.some((one) => old.includes(one.id)));
    give(options, answer, () => say(`The programs have new logins for ${at.shown}; the old ones have ended.`));
  });

  shared(
    resource
      .command('snapshot <environment> <name>')
      .description(
        'copy it now for reviews, make the copy fit for others, and wait until it is; its `scrub` does that',
      ),
    'tsunagi resource snapshot sailings/staging timetable',
  )
    .option('--no-wait', 'do not wait until it is ready')
    .option('--log', 'what the last `scrub` printed; nothing is copied')
    .action(async (environment: string, name: string, options: Shared & { wait: boolean; log?: boolean }) => {
      const at = await resourceAt(environment, name, options);
      if (options.log) return scrubLog(at);
      const asked = await post<SnapshotView>(`${at.path}/snapshots`);
      const of = (now: ResourceDetail) => now.snapshots.find((one) => one.id === asked.id);
      const done = options.wait ? (of(await until(at.path, 'the snapshot', (now) => isOver(of(now)))) ?? asked) : asked;
      give(options, done, () =>
        done.state === 'ready'
          ? say(`A copy of ${at.shown}, ${bytes(done.bytes ?? 0)}, is ready for reviews.`)
          : done.issue
            ? say(plain(done.issue.says), faint(plain(done.issue.next)))
            : say(`A copy of ${at.shown} is ${done.state}.`),
      );
      if (done.issue) process.exitCode = 1;
    });

  shared(
    resource.command('backup <environment> <name>').description('back it up now, and wait until that is kept'),
    'tsunagi resource backup sailings/production timetable',
  )
    .option('--output <file>', 'write it there too: a database in the custom format of pg_dump, a volume as tar')
    .option('--number <number>', 'that backup, in place of a new one; with --output or --remove')
    .option('--remove', 'remove that backup')
    .action(
      async (
        environment: string,
        name: string,
        options: Shared & { output?: string; number?: string; remove?: boolean },
      ) => {
        const at = await resourceAt(environment, name, options);
        const given = options.number === undefined ? null : backupNumber(options.number);
        if (options.remove) {
          if (given === null) throw usage('`--remove` wants the number of a backup.', 'resource backup');
          await call('DELETE', `${at.path}/backups/${given}`);
          return give(options, { number: given }, () => say(`Backup ${given} of ${at.shown} is removed.`));
        }
        const asked = given ?? (await post<BackupView>(`${at.path}/backups`)).number;
        const done = (
          await until(at.path, 'the backup', (now) => {
            const one = now.backupList.find((each) => each.number === asked);
            return one === undefined || one.state === 'kept' || one.state === 'failed';
          })
        ).backupList.find((one) => one.number === asked);
        if (!done) throw new CodedError('backup_unknown', { name, environment, number: asked });
        if (options.output && done.state === 'kept')
          await pipeline(
            await download(`${at.path}/backups/${asked}/bytes`),
            createWriteStream(options.output, { mode: 0o600 }),
          );
        give(options, done, () =>
          done.state === 'kept'
            ? say(
                `Backup ${done.number} of ${at.shown}: ${bytes(done.bytes ?? 0)}${options.output ? `, written to ${options.output}` : ''}`,
              )
            : say(plain(done.issue?.says ?? 'It failed.'), faint(plain(done.issue?.next ?? ''))),
        );
        if (done.state !== 'kept') process.exitCode = 1;
      },
    );

  shared(
    resource
      .command('restore <environment> <name>')
      .description(
        'put a backup in the place of what is there, which is backed up first; programs lose their sessions for a moment, those with a volume are started again',
      ),
    'tsunagi resource restore sailings/staging timetable --backup 12 --from sailings/production',
  )
    .requiredOption('--backup <number>', 'which backup')
    .option('--from <environment>', 'of another environment of the project; default: its own')
    .option('--on <agent>', 'of a volume: its files are on the machine of that agent from then on')
    .option('--without-backup', 'do not back up what is there first')
    .option('-y, --yes', 'do not ask')
    .action(
      async (
        environment: string,
        name: string,
        options: Shared & { backup: string; from?: string; on?: string; withoutBackup?: boolean; yes?: boolean },
      ) => {
        const at = await resourceAt(environment, name, options);
        const from = options.from ? await environmentPlace(options.from, options.project) : null;
        if (!options.yes) {
          say(
            `All that is in ${at.shown} gives way to backup ${options.backup}${from ? ` of ${from.project}/${from.name}` : ''}${options.on ? `, on the machine of ${options.on}` : ''}. Programs that use it are ended for that, and started again.`,
          );
          throw usage('Nothing was restored. Confirm with --yes.', 'resource restore');
        }
        const body: RestoreBody = {
          backup: backupNumber(options.backup),
          ...(from ? { environment: from.name } : {}),
          ...(options.on ? { on: options.on } : {}),
          ...(options.withoutBackup ? { first: false } : {}),
        };
        await post<Resource>(`${at.path}/restore`, body);
        const done = await until(at.path, 'the restore', (now) => now.state === 'ready' && !now.restoring);
        give(options, done, () =>
          done.issue
            ? say(plain(done.issue.says), faint(plain(done.issue.next)))
            : say(`Backup ${body.backup} is in the place of what was in ${at.shown}.`),
        );
        if (done.issue) process.exitCode = 1;
      },
    );

  shared(
    resource
      .command('connect <environment> <name>')
      .description(
        'use a database that is kept elsewhere; its address is read from standard input, and tried before it is kept',
      ),
    'tsunagi resource connect sailings/production timetable < address.txt',
  ).action(async (environment: string, name: string, options: Shared) => {
    const at = await resourceAt(environment, name, options);
    // Not on the command line, where other users of the machine and the shell's history see it.
    const url = readFileSync(0, 'utf8').trim();
    give(options, await post<Resource>(`${at.path}/connect`, { url }), () =>
      say(`${at.shown} is kept elsewhere; it answered. Programs get it with the next deployment.`),
    );
  });

  shared(
    resource
      .command('remove <environment> <name>')
      .description('remove it with all that is in it; what goes is shown first'),
    'tsunagi resource remove sailings/staging timetable --confirm timetable',
  )
    .option('--confirm <name>', 'its name again')
    .option('--backups', 'its backups too; default: they stay')
    .action(async (environment: string, name: string, options: Shared & { confirm?: string; backups?: boolean }) => {
      const at = await resourceAt(environment, name, options);
      const goes = await get<ResourceRemoval>(`${at.path}/removal`);
      const words = [
        goes.bytes === null ? 'what is in it' : `${bytes(goes.bytes)} of data`,
        ...(goes.connections ? [`open ${sessionsText(goes.connections)}`] : []),
        ...(options.backups && goes.backups ? [`${goes.backups} backups`] : []),
      ].join(' · ');
      if (!options.confirm) {
        give(options, goes, () =>
          say(
            `Removing ${bold(at.shown)} also removes: ${words}.`,
            goes.usedBy
              ? `It is used by ${goes.usedBy}, which is live: it can't be removed now.`
              : goes.backups && !options.backups
                ? `Its ${goes.backups} backups stay.`
                : 'Nothing brings it back.',
          ),
        );
        throw usage(`Nothing was removed. Confirm with --confirm ${name}.`, 'resource remove');
      }
      await call('DELETE', at.path, { confirm: options.confirm, ...(options.backups ? { backups: true } : {}) });
      give(options, goes, () => say(`${at.shown} is being removed, with ${words}.`));
    });
}

/** What the newest scrub that began has printed. */
async function scrubLog(at: { path: string; shown: string }): Promise<void> {
  const { snapshots } = await get<ResourceDetail>(at.path);
  const attempt = snapshots.find((one) => one.scrub?.attempt)?.scrub?.attempt;
  if (!attempt) return say(`No scrub of ${at.shown} has begun yet.`);
  const lines = createInterface({ input: await download(`/api/attempts/${attempt}/log/text`), crlfDelay: Infinity });
  for await (const line of lines) say(printed(line));
}

/** It is there, or will not be; one that is gone altogether has been replaced. */
const isOver = (one: SnapshotView | undefined): boolean =>
  one === undefined || one.state === 'ready' || one.state === 'failed' || one.state === 'removed';

const originText = ({ copy, of, why }: NonNullable<Resource['origin']>): string =>
  of
    ? `Its data began as a copy of ${copy}, as that was ${ago(of)}.`
    : why
      ? 'It began empty.'
      : `It waits for a copy of ${copy}.`;

const sessionsText = (count: number): string => `${count} ${count === 1 ? 'session' : 'sessions'}`;

const placed = (one: Resource): string =>
  one.state === 'removed'
    ? faint('its backups are kept')
    : one.place === 'elsewhere'
      ? faint('kept elsewhere')
      : one.used
        ? ''
        : faint('not used by what is live');

function show(one: ResourceDetail): void {
  const facts = [
    one.kind,
    state(one.state),
    ...[fillText(one.bytes, one.most)].filter(Boolean),
    ...(one.connections === null ? [] : [sessionsText(one.connections)]),
  ];
  say(`${bold(plain(one.name))} of ${one.project}/${one.environment}  ${facts.join(' · ')}  ${placed(one)}`.trimEnd());
  if (one.issue) say(plain(one.issue.says), faint(plain(one.issue.next)));
  for (const { text } of noticesOf(one)) say(plain(text));
  if (one.origin) {
    if (originText(one.origin)) say(originText(one.origin));
    if (one.origin.why) say(plain(one.origin.why.says), faint(plain(one.origin.why.next)));
  }
  const { backup, extensions } = one.plan;
  if (extensions.length) say(`extensions: ${extensions.map(plain).join(', ')}`);
  if (backup)
    say(
      `backed up every ${durationSource(backup.everyMs)}, ${backup.keep} are kept${backup.tryMs ? `, the newest is tried every ${durationSource(backup.tryMs)}` : ''}`,
    );
  if (one.logins.length)
    say(
      '',
      table(
        ['LOGIN OF', 'FOR', 'STATE', 'SINCE', 'ENDS'],
        one.logins.map((each) => [
          plain(each.who),
          each.usedBy === 'person' ? 'a person' : each.usedBy === 'parts' ? 'its programs' : 'prepare',
          each.state,
          ago(each.createdAt),
          each.until ? `in ${durationText(Math.max(0, Date.parse(each.until) - Date.now()))}` : '',
        ]),
      ),
    );
  if (one.snapshots.length)
    say(
      '',
      table(
        ['COPY', 'STATE', 'OF', 'SIZE', 'SCRUBBED BY', 'REVIEWS', ''],
        one.snapshots.map((each) => [
          each.id.slice(-8),
          state(each.state),
          ago(each.of ?? each.createdAt),
          each.bytes === null ? '' : bytes(each.bytes),
          each.scrub ? each.scrub.deployment : '',
          String(each.reviews),
          each.issue ? plain(each.issue.says) : '',
        ]),
      ),
    );
  if (one.backupList.length)
    say(
      '',
      table(
        ['BACKUP', 'STATE', 'OF', 'SIZE', 'BY', 'TRIED'],
        one.backupList.map((each) => [
          String(each.number),
          state(each.state),
          ago(each.of ?? each.createdAt),
          each.bytes === null ? '' : bytes(each.bytes),
          plain(each.by),
          each.tried
            ? each.tried.passed
              ? `${each.tried.files === null ? `${each.tried.tables ?? 0} tables, ${each.tried.rows ?? 0} rows` : `${each.tried.files} files`}, ${ago(each.tried.at)}`
              : plain(each.tried.issue?.says ?? 'it failed')
            : each.issue
              ? plain(each.issue.says)
              : '',
        ]),
      ),
    );
}

/** A login that lasts as long as this process, at a port of this machine. */
async function openHere(at: { path: string; shown: string }, options: Shared, wanted: number): Promise<void> {
  const { openPort } = await streams();
  const login = await post<OpenedLogin>(`${at.path}/logins`);
  const ended = new AbortController();
  const end = () => ended.abort();
  const opened = await openPort(`${at.path}/logins/${login.id}/stream`, wanted).catch(async (error: Error) => {
    await call('DELETE', `${at.path}/logins/${login.id}`);
    throw (error as NodeJS.ErrnoException).code === 'EADDRINUSE'
      ? usage(`Port ${wanted} of this machine is in use.`, 'resource open')
      : error;
  });
  for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP'] as const) process.once(signal, end);
  const timer = setTimeout(end, Math.max(0, Date.parse(login.until) - Date.now()));
  const url = new URL(login.url);
  url.host = `127.0.0.1:${opened.port}`;
  try {
    give(options, { ...login, url: url.href }, () => {
      say(url.href);
      process.stderr.write(
        `${faint(`A login of your own for ${at.shown}, good until ${new Date(login.until).toISOString().slice(11, 16)} UTC or until this command is ended.`)}\n`,
      );
    });
    await Promise.race([
      opened.refused,
      new Promise<void>((resolve) => ended.signal.addEventListener('abort', () => resolve(), { once: true })),
    ]);
  } finally {
    clearTimeout(timer);
    opened.close();
    await call('DELETE', `${at.path}/logins/${login.id}`).catch((error: unknown) => {
      // It has ended by itself.
      if (!(error instanceof CodedError) || error.issue.code !== 'not_found') throw error;
    });
  }
}

function portOf(text: string): number {
  if (/^[1-9]\d{0,4}$/.test(text) && Number(text) < 65_536) return Number(text);
  throw usage(`\`${text}\` is not a port: a number from 1 to 65535.`, 'resource open');
}

async function endLogins(at: { path: string; shown: string }, options: Shared): Promise<void> {
  const [{ name }, { logins }] = [await get<{ name: string }>('/api/me'), await get<ResourceDetail>(at.path)];
  const own = logins.filter((one) => one.usedBy === 'person' && one.who === name);
  for (const one of own) await call('DELETE', `${at.path}/logins/${one.id}`);
  give(options, { ended: own.map((one) => one.id) }, () =>
    say(own.length ? `${own.length} of your logins for ${at.shown} are ended.` : 'You have none there.'),
  );
}

function backupNumber(text: string): number {
  if (!/^[1-9]\d{0,8}$/.test(text)) throw usage(`\`${text}\` is not the number of a backup.`, 'resource backup');
  return Number(text);
}

/** Asks until it is so; a resource that fails meanwhile is thrown as its issue. */
async function until(path: string, what: string, so: (now: ResourceDetail) => boolean): Promise<ResourceDetail> {
  for (;;) {
    const now = await get<ResourceDetail>(path);
    if (so(now)) return now;
    if (now.state === 'failed') throw usage(`${what}: ${now.issue?.says ?? 'it failed'}`, 'resource show');
    await pause(askMs);
  }
}
