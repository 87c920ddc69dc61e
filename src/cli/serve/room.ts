/** One room as a process of its own: `service`, `agent` or `edge`, told what it needs by TSUNAGI_* variables. */
import { existsSync, readFileSync, renameSync, statSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { startTime } from '../../agent/sandbox/processes.js';
import { CodedError } from '../../core/errors/errors.js';
import type { DatabaseSizes } from '../../core/advance/sizes.js';
import type { Timing } from '../../engine/context.js';
import type { Keeping } from '../../engine/context.js';
import type { Clusters } from '../../engine/resources/kinds.js';
import type { MailSettings } from '../../channels/mail.js';
import type { Patience } from '../../core/alerts/conditions.js';
import type { AcmeSettings } from '../../domains/acme.js';
import type { Names } from '../../engine/domains/names.js';
import { type Settings, settingsOf } from './settings.js';

export async function runRoom(name: string): Promise<void> {
  const settings = settingsOf(name);
  const { need, get } = settings;
  const level = get('LOG_LEVEL');
  const logLevel = level ? { logLevel: level } : {};
  let close: (signal: NodeJS.Signals) => Promise<void> = async () => {};
  // A signal may come while this process starts: it ends in order then, too, as soon as there is something to end.
  let started = false;
  let asked: NodeJS.Signals | null = null;
  const end = (signal: NodeJS.Signals) =>
    void close(signal).then(
      () => process.exit(0),
      () => process.exit(1),
    );
  for (const signal of ['SIGINT', 'SIGTERM'] as const)
    process.on(signal, () => {
      if (asked !== null) return;
      asked = signal;
      if (started) end(signal);
    });
  if (name === 'service') {
    refuseOthers(need('DATA'));
    const { startService } = await import('../../service/start.js');
    const url = get('PUBLIC_URL');
    const crashFile = get('CRASH_FILE');
    const service = await startService({
      database: need('DATABASE'),
      data: need('DATA'),
      host: get('HOST') ?? '127.0.0.1',
      port: settings.port('PORT'),
      ...(get('DOOR') ? { door: need('DOOR') } : {}),
      ...(url ? { url } : {}),
      addresses: {
        standing: get('STANDING_DOMAIN') ?? 'localhost',
        review: get('REVIEW_DOMAIN') ?? 'review.localhost',
        untrusted: get('UNTRUSTED_DOMAIN') ?? 'untrusted.localhost',
        scheme: get('EDGE_SCHEME') === 'https' ? 'https' : 'http',
        port: settings.number('EDGE_PORT', 1, 65_535, null),
        tlsPort: settings.number('EDGE_TLS_PORT', 1, 65_535, null),
      },
      timing: settings.json<Timing>('TIMING'),
      keeping: settings.json<Keeping>('KEEP'),
      networks: settings.ranges('NETWORKS'),
      clusters: settings.json<Clusters>('CLUSTERS'),
      sizes: settings.json<DatabaseSizes>('DATABASE_SIZES'),
      authority: authorityOf(settings),
      ...mailOf(settings),
      patience: settings.json<Patience>('PATIENCE'),
      resolvers: settings.servers('RESOLVERS'),
      edges: settings.ranges('EDGE_ADDRESSES'),
      ...(get('CERTIFICATES') ? { certificates: need('CERTIFICATES') } : {}),
      trustedProxies: settings.addresses('TRUSTED_PROXIES'),
      console: get('CONSOLE') ?? fileURLToPath(new URL('../../../console', import.meta.url)),
      ...logLevel,
      ...(crashFile ? { crash: crashWhen(crashFile) } : {}),
    });
    close = () => service.close();
  } else if (name === 'agent') {
    const { startAgent } = await import('../../agent/agent.js');
    const network = get('NETWORK');
    const takes = settings.takes();
    const instances = settings.number('INSTANCES', 1, 10_000, null);
    const minFree = settings.number('MIN_FREE', 0, Number.MAX_SAFE_INTEGER, null);
    const floor = settings.number('FLOOR', 0, Number.MAX_SAFE_INTEGER, null);
    const logLimit = settings.number('LOG_LIMIT', 1_000, Number.MAX_SAFE_INTEGER, null);
    const silence = settings.number('SILENCE', 1_000, 3_600_000, null);
    const tidyEvery = settings.number('TIDY_EVERY', 100, 2_147_483_647, null);
    const agent = await startAgent({
      url: need('URL'),
      token: need('TOKEN'),
      name: get('NAME') ?? 'agent-1',
      folder: need('DATA'),
      slots: settings.number('SLOTS', 0, 256, 2),
      ...(takes ? { takes } : {}),
      ...(instances === null ? {} : { instances }),
      ...(get('ADDRESS') ? { address: need('ADDRESS') } : {}),
      ...(network === 'pasta' || network === 'relay' ? { network } : {}),
      ...(get('CHROMIUM') ? { chromium: need('CHROMIUM') } : {}),
      ...(get('RESOURCES') ? { resources: need('RESOURCES') } : {}),
      ...(get('UNTRUSTED_RESOURCES') ? { untrustedResources: need('UNTRUSTED_RESOURCES') } : {}),
      limits: settings.json('LIMITS'),
      ...(minFree === null ? {} : { minFree }),
      ...(floor === null ? {} : { floor }),
      ...(logLimit === null ? {} : { logLimit }),
      ...(tidyEvery === null ? {} : { tidyEvery }),
      ...(silence === null ? {} : { silence }),
      settings: settings.json<Record<string, string>>('TASK_SETTINGS') as Record<string, string>,
      ...logLevel,
    });
    // INT ends its instances too, as `serve` does when all of it ends; TERM leaves them to the next agent.
    close = (signal) => agent.close(signal === 'SIGINT' ? 'end' : 'leave');
  } else if (name === 'edge') {
    const { startEdge } = await import('../../edge/edge.js');
    const [{ findLimits }, { preferOwn }] = await Promise.all([
      import('../../agent/sandbox/host.js'),
      import('../../agent/sandbox/limits.js'),
    ]);
    const name = get('NAME') ?? 'edge-1';
    preferOwn(findLimits(), 'edge', name);
    const edge = await startEdge({
      url: need('URL'),
      token: need('TOKEN'),
      name,
      folder: need('DATA'),
      host: get('HOST') ?? '127.0.0.1',
      port: settings.port('PORT'),
      tlsPort: settings.number('TLS_PORT', 1, 65_535, null),
      publicTlsPort: settings.number('PUBLIC_TLS_PORT', 1, 65_535, null),
      bounds: settings.json('BOUNDS'),
      trustedProxies: settings.addresses('TRUSTED_PROXIES'),
      proxyProtocol: get('PROXY_PROTOCOL') === 'on',
      ...logLevel,
    });
    close = () => edge.close();
  } else
    throw new CodedError('usage', {
      detail: `\`${name}\` is not a process; there are service, agent and edge.`,
      command: 'serve',
    });

  started = true;
  if (asked !== null) end(asked);
}

/** What another account would write into the folder of a service, that service could not read. */
function refuseOthers(folder: string): void {
  const owner = statSync(folder, { throwIfNoEntry: false })?.uid;
  if (owner === undefined || process.getuid === undefined || owner === process.getuid()) return;
  throw new CodedError('usage', {
    detail: `${folder} belongs to the account with the number ${owner}, and this service would run as ${process.getuid()}. Start it under that account.`,
    command: 'serve',
  });
}

/** A mail server, where one is named; it needs a host, a port, and whom mail is from. */
function mailOf(settings: Settings): { mail?: MailSettings } {
  const mail = settings.json<MailSettings>('MAIL');
  if (Object.keys(mail).length === 0) return {};
  const { host, port, from } = mail;
  if (host === undefined || port === undefined || from === undefined)
    throw new CodedError('setting_wrong', { name: 'TSUNAGI_MAIL', detail: 'it needs host, port and from' });
  return { mail: { ...mail, host, port, from } };
}

/** An authority by ACME where its directory is named, else the service's own where it is asked for, else none. */
function authorityOf(settings: Settings): Names['authority'] {
  const { directory, ...acme } = settings.json<AcmeSettings>('ACME');
  if (directory) return { kind: 'acme', directory, ...acme };
  return { kind: settings.get('AUTHORITY') === 'local' ? 'local' : 'none' };
}

/**
 * For tests. The file names the points of which each is met once, a line each: `transition:before` or `transition:after` ends
 * this process there; with the path of a file behind it, the process whose id stands in that file.
 */
function crashWhen(file: string): (point: string) => void {
  return (point) => {
    if (!existsSync(file)) return;
    const lines = readFileSync(file, 'utf8').split('\n').filter(Boolean);
    const line = lines.find((one) => one.split(' ')[0] === point);
    if (!line) return;
    const other = line.split(' ')[1];
    const pid = other ? Number(readFileSync(other, 'utf8')) : process.pid;
    // One that is not up again yet is met at the next time.
    if (!existsSync(`/proc/${pid}`)) return;
    writeFileSync(`${file}.new`, lines.filter((one) => one !== line).join('\n'));
    renameSync(`${file}.new`, file);
    if (!other) process.kill(pid, 'SIGKILL');
    // Another process may belong to another account: who reads this pipe kills it, and this process goes on after that.
    writeFileSync(`${file}.kill`, `${pid}\n`);
    const pause = new Int32Array(new SharedArrayBuffer(4));
    while (startTime(pid) !== null) Atomics.wait(pause, 0, 0, 1);
  };
}
