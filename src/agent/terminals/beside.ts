/**
 * A person's program beside that of an instance: the sandbox itself starts it (beside.sh), by pipes in a folder that it can read and
 * not change.
 */
import {
  chmodSync,
  chownSync,
  closeSync,
  constants,
  existsSync,
  mkdirSync,
  openSync,
  rmSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { Socket } from 'node:net';
import { join } from 'node:path';
import { Writable } from 'node:stream';
import { CodedError } from '../../core/errors/errors.js';
import type { TerminalWork } from '../../wire/rooms/work.js';
import type { AgentContext } from '../context.js';
import { folderOf } from '../instances/keeper.js';
import { handsOf, makePipes } from '../sandbox/hands.js';
import { descendantsOf, firstProcess, insideIds, signal, startTime } from '../sandbox/processes.js';
import { graceMs, type Hand, handWords, readWhole } from './hand.js';

const pipes = ['in', 'out', 'err', 'size', 'over'] as const;

/** The id out here of a process that has this one in the instance's sandbox; null when it is gone. */
function outside(folder: string, inside: number): number | null {
  const first = firstProcess(folder);
  const found = first === null ? [] : descendantsOf(first);
  return found.find((pid) => insideIds(pid).at(-1) === inside) ?? null;
}

/** Milliseconds until the sandbox must have begun it, and characters that it may say of it. */
const beginMs = 5_000;
const mostTold = 100;

export async function openBeside(context: AgentContext, work: TerminalWork, instance: string): Promise<Hand> {
  const folder = folderOf(context.folder, instance);
  const hands = handsOf(folder);
  if (!existsSync(join(hands, 'ask')))
    throw new CodedError('setup_failed', {
      detail: 'its instance was started by an agent of before, which lets nobody in: restart it',
    });
  const account = context.host.accounts.live;
  const own = join(hands, work.id);
  mkdirSync(own, { mode: 0o755 });
  const put = (name: string, words: readonly string[]) => {
    writeFileSync(join(own, name), words.map((word) => `${word}\0`).join(''), { mode: 0o600 });
    if (account) chownSync(join(own, name), account.uid, account.gid);
  };
  chmodSync(own, 0o755);
  makePipes(own, pipes, account);
  put('words', handWords(work));
  put(
    'variables',
    Object.entries(work.variables).map(([name, value]) => `${name}=${value}`),
  );
  // Both ends of what is written, so that nobody waits for the other; of what is read this side alone, or its end would not be seen.
  const writing = (name: string) => openSync(join(own, name), constants.O_RDWR | constants.O_NONBLOCK);
  const reading = (name: string) => openSync(join(own, name), constants.O_RDONLY | constants.O_NONBLOCK);
  const socket = (fd: number, out: boolean) => {
    const one = new Socket({ fd, readable: !out, writable: out });
    one.on('error', () => {});
    return one;
  };
  const [output, errors, over] = (['out', 'err', 'over'] as const).map((name) => socket(reading(name), false)) as [
    Socket,
    Socket,
    Socket,
  ];
  const [input, sizes] = (['in', 'size'] as const).map((name) => socket(writing(name), true)) as [Socket, Socket];
  let pid: number | null = null;
  let since: string | null = null;
  let exit: number | null = null;
  const begun = new Promise<void>((resolve, reject) => {
    const late = setTimeout(
      () => reject(new CodedError('setup_failed', { detail: 'its sandbox let nobody in' })),
      beginMs,
    );
    // The program beside it is the same account, and may write here too: nothing that it writes is long, or believed twice.
    let told = '';
    over.on('data', (bytes: Buffer) => {
      told = (told + bytes.toString('latin1')).slice(0, mostTold);
      const began = /^begun (\d{1,10})\n/.exec(told);
      if (began && pid === null) {
        clearTimeout(late);
        pid = outside(folder, Number(began[1]));
        since = pid === null ? null : startTime(pid);
        resolve();
      }
      const ended = /\nended (\d{1,3})\n/.exec(told);
      if (ended) exit = Number(ended[1]);
    });
  });
  // Where it could not even be asked, nobody waits for it.
  begun.catch(() => {});
  // An id that somebody else has by now is nobody of ours.
  const processes = () =>
    pid !== null && since !== null && startTime(pid) === since ? [...descendantsOf(pid), pid] : [];
  const clear = async () => {
    for (const one of processes()) signal(one, 'SIGKILL');
    for (const one of [input, output, sizes, errors, over]) one.destroy();
    rmSync(own, { recursive: true, force: true });
  };
  try {
    const ask = openSync(join(hands, 'ask'), constants.O_WRONLY | constants.O_NONBLOCK);
    writeSync(ask, `${work.id}\n`);
    closeSync(ask);
    await begun;
  } catch (error) {
    await clear();
    throw error;
  }
  return {
    // A pipe's end is that nobody has it open for writing.
    input: new Writable({
      write: (bytes, _, taken) => void input.write(bytes, () => taken()),
      final(done) {
        input.destroy();
        done();
      },
    }),
    output,
    errors,
    resize: (columns, rows) => void sizes.write(`${columns} ${rows}\n`),
    // One that is gone with its instance has no status of its own.
    ended: Promise.all([readWhole(over), readWhole(output), readWhole(errors)]).then(() => exit ?? 137),
    end() {
      for (const one of processes()) signal(one, 'SIGTERM');
      setTimeout(() => {
        for (const one of processes()) signal(one, 'SIGKILL');
      }, graceMs).unref();
    },
    clear,
  };
}
