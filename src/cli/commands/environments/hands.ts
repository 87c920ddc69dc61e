/** exec, shell: a program inside an environment, with what the programs of its release have. */
import type { Command } from 'commander';
import { CodedError } from '../../../core/errors/errors.js';
import type { Terminal, TerminalAsk } from '../../../wire/environments/terminals.js';
import type { PageOf } from '../../../wire/parts.js';
import { environmentPlace, get } from '../../api.js';
import { ago, json, plain, say, state, table, took } from '../../print.js';
import type { Ended, Taking } from '../../stream.js';
import { streams } from '../../streams.js';
import { give, type Shared, shared } from '../shared.js';

interface Where extends Shared {
  part?: string;
  in?: string;
}

/** Exit status where there is none of the program. */
const cutShort = 255;
/** Bytes of each output that `--json` holds. */
const heldBytes = 10 * 1024 ** 2;

export function handCommands(program: Command): void {
  const where = (command: Command) =>
    command
      .option('--part <part>', 'with the files of this part; default: the first server')
      .option('--in <instance>', 'beside the program of this instance, such as api.1, in its sandbox');

  where(
    shared(
      program
        .command('exec <environment> <command...>')
        .description(
          'run one command with the files, variables and resources of what is live; its exit status is that of this',
        ),
      'tsunagi exec sailings/staging -- node scripts/count.js',
    ),
  )
    .option(
      '--plain',
      'without a terminal: input and both outputs are streams; so it is where they are no terminal here',
    )
    .action(async (environment: string, command: string[], options: Where & { plain?: boolean }) => {
      const place = await environmentPlace(environment, options.project);
      const tty = !options.plain && !options.json && Boolean(process.stdin.isTTY && process.stdout.isTTY);
      const ask = askOf(command, tty, options);
      if (options.json) return heldWhole(place.path, ask);
      leaveWith(await joined(place.path, ask));
    });

  where(
    shared(
      program
        .command('shell <environment>')
        .description('a shell with the files, variables and resources of what is live'),
      'tsunagi shell sailings/staging --in api.1',
    ),
  )
    .option('--list', 'who is inside, and who was')
    .action(async (environment: string, options: Where & { list?: boolean }) => {
      const place = await environmentPlace(environment, options.project);
      if (options.list) return give(options, await get<PageOf<Terminal>>(`${place.path}/terminals`), list);
      if (!process.stdin.isTTY || !process.stdout.isTTY) throw new CodedError('terminal_needed', { environment });
      leaveWith(await joined(place.path, askOf([], true, options)));
    });
}

const askOf = (command: string[], tty: boolean, options: Where): TerminalAsk => ({
  command,
  tty,
  ...(options.part ? { part: options.part } : {}),
  ...(options.in ? { beside: options.in } : {}),
});

const sizeNow = (): [number, number] => [
  Math.min(1000, process.stdout.columns || 80),
  Math.min(1000, process.stdout.rows || 24),
];

/** Joins what stands around this process to it, until it ends. */
async function joined(path: string, ask: TerminalAsk): Promise<Ended> {
  const term = /^[A-Za-z0-9.+-]{1,40}$/.test(process.env.TERM ?? '') ? (process.env.TERM as string) : 'xterm-256color';
  const to = (out: NodeJS.WriteStream) => (bytes: Buffer, room: () => void) => {
    const goes = out.write(bytes);
    if (!goes) out.once('drain', room);
    return goes;
  };
  const taking: Taking = { output: to(process.stdout), errors: to(process.stderr) };
  const hand = await (await streams()).joinTerminal(path, ask, { size: sizeNow(), term }, taking);
  const { stdin } = process;
  const resized = () => hand.resize(...sizeNow());
  const left = () => hand.leave();
  if (ask.tty) {
    stdin.setRawMode(true);
    process.stdout.on('resize', resized);
  } else process.once('SIGINT', left);
  process.once('SIGTERM', left);
  process.once('SIGHUP', left);
  stdin.on('data', (bytes: Buffer) => {
    if (!hand.write(bytes, () => stdin.resume())) stdin.pause();
  });
  stdin.once('end', () => hand.eof());
  try {
    return await hand.ended;
  } finally {
    if (ask.tty) stdin.setRawMode(false);
    process.stdout.off('resize', resized);
    stdin.removeAllListeners('data');
    // Nothing more is read: this process may end.
    stdin.destroy();
  }
}

/** With no input; both outputs are held and printed as one document. */
async function heldWhole(path: string, ask: TerminalAsk): Promise<void> {
  const held = { output: [] as Buffer[], errors: [] as Buffer[] };
  const left = { output: heldBytes, errors: heldBytes };
  const hold = (name: 'output' | 'errors') => (bytes: Buffer) => {
    if (left[name] > 0) held[name].push(bytes.subarray(0, left[name]));
    left[name] -= bytes.length;
    return true;
  };
  const began = Date.now();
  const hand = await (await streams()).joinTerminal(
    path,
    ask,
    { size: [80, 24], term: 'dumb' },
    { output: hold('output'), errors: hold('errors') },
  );
  hand.eof();
  const ended = await hand.ended;
  json({
    exit: ended.exit,
    why: ended.why,
    says: ended.says,
    ms: Date.now() - began,
    output: Buffer.concat(held.output).toString('utf8'),
    errors: Buffer.concat(held.errors).toString('utf8'),
    cut: left.output < 0 || left.errors < 0,
  });
  process.exitCode = ended.exit ?? cutShort;
}

const reasons: Record<string, string> = {
  idle: 'nothing was typed or printed for too long',
  'too long': 'it lasted for as long as one may',
  'by hand': 'somebody ended it',
  lost: 'the connection to its program was lost',
  left: 'its person left',
  failed: 'it could not begin',
};

function leaveWith({ why, exit, says }: Ended): void {
  if (why !== 'exit') process.stderr.write(`\nThe terminal has ended: ${says ?? reasons[why] ?? why}\n`);
  process.exitCode = why === 'exit' ? (exit ?? cutShort) : cutShort;
}

function list({ items }: PageOf<Terminal>): void {
  if (items.length === 0) say('Nobody has been inside.');
  else
    say(
      table(
        ['WHO', 'WHERE', 'WHAT', 'SINCE', 'FOR', 'ENDED'],
        items.map((one) => [
          plain(one.who),
          plain(one.beside ?? one.part),
          plain(one.command.join(' ') || 'a shell').slice(0, 60),
          ago(one.openedAt ?? one.createdAt),
          one.openedAt ? took(one.openedAt, one.endedAt) : '–',
          one.state === 'ended' ? (one.why === 'exit' ? `exit ${one.exit}` : (one.why ?? '')) : state('running'),
        ]),
      ),
    );
}
