/** A sandbox of its own with the files of a release, for one person's program. It ends with the agent. */
import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { PassThrough, type Readable, type Writable } from 'node:stream';
import { untilDone } from '../../wire/rooms/client.js';
import type { TerminalWork } from '../../wire/rooms/work.js';
import type { AgentContext } from '../context.js';
import { discard } from '../files/remove.js';
import { chainCall, handCommand, networkOf, prepareFolder, writeChain } from '../sandbox/chain.js';
import { attemptLimits, makeGroup } from '../sandbox/limits.js';
import { signal } from '../sandbox/processes.js';
import { namedReach } from '../settings.js';
import { volumeBinds } from '../volumes/binds.js';
import { graceMs, type Hand, handWords, readWhole } from './hand.js';

/** Processes of the sandbox itself, which pass TERM on to nobody. */
const ownProcesses = 2;

export async function openFresh(context: AgentContext, work: TerminalWork, given: AbortSignal): Promise<Hand> {
  const { host, layers, client } = context;
  const binds = volumeBinds(context, work.volumes);
  // What it writes there belongs to the account of the programs.
  const account = binds.length ? host.accounts.live : host.accounts.work;
  const release = layers.hold(null, work.layers);
  const folder = join(context.folder, 'work', `t-${work.id}`);
  const limits = attemptLimits(host.attempt);
  const group = makeGroup(host.limits, `t-${work.id}`, limits);
  const clear = async () => {
    await group.remove();
    release();
    void discard(context.folder, folder);
  };
  try {
    const paths = await Promise.all(
      work.layers.map((digest) =>
        untilDone(
          () => layers.output(digest, () => client.getStream(`/api/agent/blobs/${digest}`), given),
          () => context.stopped() || given.aborted,
        ),
      ),
    );
    prepareFolder(folder, account);
    const open = work.network !== 'none';
    const named = await namedReach(work.reach);
    const chain = {
      layers: paths,
      // What it changes is its own, and goes with it.
      writable: true,
      variables: work.variables,
      network: { open, listen: null, ...named, only: open ? [] : named.only },
      binds,
      tmp: host.attempt.tmp,
      command: handCommand(handWords(work)),
    };
    const { disk, processes, memory } = host.attempt;
    const frame = {
      folder,
      account,
      network: networkOf(chain, host.network),
      writable: true,
      watchLease: false,
      group,
      tied: true,
      runs: 'told' as const,
      rlimits:
        host.limits === 'none' ? { file: disk, processes, memory } : { file: disk, processes: null, memory: null },
    };
    const bin = join(context.folder, 'bin');
    writeChain(frame, chain, bin);
    const call = chainCall(frame, bin);
    const child = spawn(call.file, call.args, {
      env: call.env,
      cwd: '/',
      stdio: ['pipe', 'pipe', 'pipe', 'pipe', 'pipe'],
    });
    const [input, output, , sizes, said] = child.stdio as unknown as [Writable, Readable, Readable, Writable, Readable];
    // With what the sandbox itself says when it can't be made.
    const errors = new PassThrough();
    const both = [child.stderr as Readable, said];
    for (const one of both) one.pipe(errors, { end: false });
    void Promise.all(both.map(readWhole)).then(() => errors.end());
    for (const one of [input, sizes]) one.on('error', () => {});
    const exit = new Promise<number>((resolve) => {
      child.once('error', () => resolve(126));
      child.once('exit', (code, name) => resolve(code ?? (name === 'SIGTERM' ? 143 : 137)));
    });
    const kill = () => {
      group.kill();
      // Once it has ended its id may be somebody else's.
      if (child.pid && child.exitCode === null && child.signalCode === null) signal(child.pid, 'SIGKILL');
    };
    return {
      input,
      output,
      errors,
      resize: (columns, rows) => void sizes.write(`${columns} ${rows}\n`),
      ended: Promise.all([exit, readWhole(output), readWhole(errors)]).then(([code]) => code),
      end() {
        group.terminate(ownProcesses);
        setTimeout(kill, graceMs).unref();
      },
      async clear() {
        kill();
        for (const one of [input, output, sizes, errors]) one.destroy();
        await clear();
      },
    };
  } catch (error) {
    await clear();
    throw error;
  }
}
