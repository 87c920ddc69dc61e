/** token, session: who gets in, and with what. */
import type { Command } from 'commander';
import { clientText } from '../../core/clients.js';
import { parseDuration } from '../../core/durations.js';
import { CodedError } from '../../core/errors/errors.js';
import type { AddedToken, Session, Token } from '../../wire/people.js';
import type { PageOf } from '../../wire/parts.js';
import { call, get, post } from '../api.js';
import { ago, faint, plain, say, table } from '../print.js';
import { give, type Shared, shared } from './shared.js';

interface TokenOptions extends Shared {
  role?: string;
  kind: string;
  expires?: string;
  takes?: string;
  address?: string;
  ports?: string;
}

export function accessCommands(program: Command): void {
  const token = program.command('token').description('tokens for people, agents and edges');
  shared(token.command('list').description('all tokens'), 'tsunagi token list', { project: false }).action(
    async (options: Shared) =>
      give(options, await get<PageOf<Token>>('/api/tokens'), ({ items }) =>
        say(
          table(
            ['TOKEN', 'KIND', 'OF', 'ALLOWS', 'PROJECT', 'USED', 'EXPIRES', 'ID'],
            items.map((one) => [
              plain(one.name),
              one.kind,
              plain(one.person ?? ''),
              one.role ?? allows(one),
              one.project ?? '',
              ago(one.usedAt),
              one.expiresAt?.slice(0, 16).replace('T', ' ') ?? '',
              faint(one.id),
            ]),
          ),
        ),
      ),
  );
  shared(
    token.command('add <name>').description('make a token; it is shown once'),
    'tsunagi token add laptop --role developer',
  )
    .option('--role <role>', 'viewer, developer, releaser or owner')
    .option('--kind <kind>', 'person, agent or edge; the name of an agent or edge is that of its token', 'person')
    .option('--takes <kinds>', 'what an agent may take: runs, untrusted, live (default: runs,untrusted)')
    .option('--address <address>', 'where edges reach the instances of an agent (default: 127.0.0.1)')
    .option('--ports <from-to>', 'the ports that its instances may have (default: 20000-31999)')
    .option('--expires <duration>', 'how long it is good for, such as 12h or 30d (default: until it is removed)')
    .action(async (name: string, options: TokenOptions) =>
      give(options, await post<AddedToken>('/api/tokens', bodyOf(name, options)), (one) => say(one.token)),
    );
  shared(
    token.command('remove <id>').description('take a token back; what was begun with it ends'),
    'tsunagi token remove 0190…',
    { project: false },
  ).action(async (id: string, options: Shared) =>
    give(options, await call('DELETE', `/api/tokens/${encodeURIComponent(id)}`), () => say('removed')),
  );

  const session = program.command('session').description('where people are signed in to the console');
  shared(session.command('list').description('sessions: your own, or for owners everybody’s'), 'tsunagi session list', {
    project: false,
  }).action(async (options: Shared) =>
    give(options, await get<PageOf<Session>>('/api/sessions'), ({ items }) =>
      say(
        table(
          ['PERSON', 'BEGUN', 'SEEN', 'BROWSER', 'ID'],
          items.map((one) => [
            plain(one.person),
            ago(one.begunAt),
            ago(one.seenAt),
            plain(clientText(one.client)).slice(0, 60),
            faint(one.id),
          ]),
        ),
      ),
    ),
  );
  shared(session.command('end <id>').description('end a session at once'), 'tsunagi session end 0190…', {
    project: false,
  }).action(async (id: string, options: Shared) =>
    give(options, await call('DELETE', `/api/sessions/${encodeURIComponent(id)}`), () => say('ended')),
  );
}

const allows = ({ takes, address, ports }: Token): string =>
  takes && ports
    ? `${takes.join(' ')}${takes.includes('live') ? ` at ${plain(address ?? '')} ${ports.from}-${ports.to}` : ''}`
    : '';

function bodyOf(name: string, options: TokenOptions): object {
  const ms = options.expires === undefined ? undefined : parseDuration(options.expires);
  if (ms === null)
    throw new CodedError('usage', {
      detail: `\`${options.expires}\` is not a length of time such as 30d.`,
      command: 'token add',
    });
  const ports = options.ports === undefined ? null : /^(\d{2,5})-(\d{2,5})$/.exec(options.ports);
  if (options.ports !== undefined && !ports)
    throw new CodedError('usage', {
      detail: `\`${options.ports}\` is not a range of ports such as 20000-20099.`,
      command: 'token add',
    });
  return {
    name,
    kind: options.kind,
    ...(options.role ? { role: options.role } : {}),
    ...(options.project ? { project: options.project } : {}),
    ...(options.takes ? { takes: options.takes.split(',').map((one) => one.trim()) } : {}),
    ...(options.address ? { address: options.address } : {}),
    ...(ports ? { ports: { from: Number(ports[1]), to: Number(ports[2]) } } : {}),
    ...(ms ? { expiresInMs: ms } : {}),
  };
}
