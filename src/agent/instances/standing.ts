/**
 * Places that stand ready for servers: keeper, namespaces and a network that is tied to a port and closed to private ranges. To make
 * one takes longer than many programs take to start, and all that it depends on is what may be reached from it; so for the last few
 * ways in which servers were tied as many stand ready as began together lately: a release with six servers finds six. What runs in
 * one is told later.
 */
import { spawn } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { closeSync, existsSync, fchownSync, openSync, readFileSync, renameSync } from 'node:fs';
import { join } from 'node:path';
import type { Writable } from 'node:stream';
import type { OperatorReach } from '../settings.js';
import { discard } from '../files/remove.js';
import { chainCall, prepareFolder, writeNetwork } from '../sandbox/chain.js';
import type { Host } from '../sandbox/host.js';
import type { ChainFrame } from '../sandbox/work.js';
import { type Group, instanceLimits, makeGroup, moveAll } from '../sandbox/limits.js';
import { nameOf, signal, startTime } from '../sandbox/processes.js';
import { segmentBytes, segmentsKept } from './logtail.js';
import { freePort, givePort, type PortRange } from './ports.js';

/** How a server is tied: under which address it is reached, and what it reaches. */
export interface Tied extends OperatorReach {
  /** Ports of servers that others use as well. */
  bounded: number[];
  address: string;
  ports: PortRange;
}

/** The process that keeps what runs in a chain: it goes on without this agent. */
export interface Keeper {
  pid: number;
  /** What stands in its folder runs now; no file of it may have more bytes than these. It ends by itself where the agent goes before. */
  begin(fileBytes: number): void;
}

export interface StandingPlace extends Keeper {
  port: number;
  /** Makes its folder that of the work, and puts all of it into the work's group. Throws where that fails; then it is ended. */
  settle(folder: string, group: Group): void;
}

export interface Standing {
  /** One that is tied like this, or null. Another one is made for the next. */
  take(tied: Tied): Promise<StandingPlace | null>;
  /** Ends those that stand, so that others may have their ports. */
  clear(): Promise<void>;
  close(): Promise<void>;
}

interface Place extends StandingPlace {
  key: string;
  ready: Promise<boolean>;
  alive(): boolean;
  end(): Promise<void>;
}

/** Ways to be tied for which places stand ready, and places of all of them. */
const mostWays = 2;
const mostPlaces = 8;
/** Milliseconds within which servers begin together, and for which as many as did stand ready. */
const togetherMs = 2_000;
const rememberedMs = 1_800_000;
/** Milliseconds after the last start until the next one is made: programs that were just begun come first. */
const refillMs = 500;
/** Milliseconds for which one that is being made is waited for, and between two looks. */
const readyMs = 3_000;
const lookMs = 5;

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

/** A way to be tied, and how many servers began in it together. */
interface Wanted {
  key: string;
  tied: Tied;
  /** When the last ones began, on the clock of this process. */
  begun: number[];
  together: { count: number; at: number };
}

/** One more server has begun in this way. */
function begunNow(before: Wanted | undefined, key: string, tied: Tied): Wanted {
  const now = performance.now();
  const begun = [...(before?.begun ?? []).filter((at) => now - at < togetherMs), now].slice(-mostPlaces);
  const old = before && now - before.together.at < rememberedMs ? before.together.count : 1;
  return {
    key,
    tied,
    begun,
    together: { count: Math.max(old, begun.length), at: begun.length >= old ? now : (before?.together.at ?? now) },
  };
}

/** Places are made where a network can be tied and a group holds what is in them; elsewhere none ever stands ready. */
export function openStanding(agentFolder: string, host: Host): Standing {
  const bin = join(agentFolder, 'bin');
  const able = host.network === 'pasta' && host.limits !== 'none';
  let places: Place[] = [];
  /** The ways of the last servers, the newest first. */
  let wanted: Wanted[] = [];
  let closed = false;

  const make = async (key: string, tied: Tied): Promise<Place> => {
    const { address } = tied;
    const port = await freePort(address, tied.ports);
    const id = `s-${randomUUID()}`;
    const folder = join(agentFolder, 'work', id);
    const account = host.accounts.live;
    const group = makeGroup(host.limits, id, instanceLimits);
    let keeper: Keeper | null = null;
    let own: string | null = folder;
    const end = async () => {
      const pasta = pastaOf(folder);
      if (keeper) signal(keeper.pid, 'SIGKILL');
      if (pasta !== null) signal(pasta, 'SIGKILL');
      await group.remove();
      givePort(port);
      if (own !== null) void discard(agentFolder, own);
    };
    try {
      prepareFolder(folder, account);
      const network = { ...tied, open: true, listen: { address, port }, only: [] };
      writeNetwork({ folder, account, network: 'pasta' }, network);
      keeper = await spawnKeeper(
        {
          folder,
          account,
          network: 'pasta',
          writable: false,
          watchLease: false,
          group,
          tied: false,
          runs: 'held',
          rlimits: { file: instanceLimits.memory, processes: null, memory: null },
        },
        bin,
      );
    } catch (error) {
      await end();
      throw error;
    }
    const { pid, begin } = keeper;
    const since = startTime(pid);
    const alive = () => since !== null && startTime(pid) === since && pastaOf(folder) !== null;
    const ready = (async () => {
      for (const until = performance.now() + readyMs; performance.now() < until; await pause(lookMs)) {
        if (existsSync(join(folder, 'held'))) return true;
        if (startTime(pid) !== since) return false;
      }
      return false;
    })();
    return {
      key,
      port,
      pid,
      ready,
      alive,
      end,
      settle(to, into) {
        try {
          if (!alive()) throw new Error('it has ended meanwhile');
          moveAll(group, into);
          renameSync(folder, to);
          own = null;
          void group.remove();
        } catch (error) {
          void end();
          throw error;
        }
      },
      begin,
    };
  };

  const clear = async () => void (await Promise.all(places.splice(0).map((one) => one.end())));
  /** One is made after another: what runs here comes first. */
  let making: Promise<void> | null = null;
  let soon: NodeJS.Timeout | undefined;
  const refill = () => {
    const unwanted = places.filter((one) => !wanted.some(({ key }) => key === one.key));
    places = places.filter((one) => !unwanted.includes(one));
    for (const one of unwanted) void one.end();
    // The first of each way comes before the second of any.
    const standing = (key: string) => places.filter((one) => one.key === key).length;
    const [next] = wanted
      .filter(({ key, together }) => standing(key) < together.count)
      .sort((a, b) => standing(a.key) - standing(b.key));
    if (closed || making || !next || places.length >= mostPlaces) return;
    making = make(next.key, next.tied)
      .then(async (place) => {
        if (closed) await place.end();
        else places.push(place);
        await place.ready;
        return true;
      })
      // Whoever needs one then makes it by itself, and says why it can't.
      .catch(() => false)
      .then((made) => {
        making = null;
        if (made) refill();
      });
  };
  return {
    async take(tied) {
      if (!able || closed) return null;
      const key = keyOf(tied);
      const before = wanted.find((one) => one.key === key);
      wanted = [begunNow(before, key, tied), ...wanted.filter((one) => one !== before)].slice(0, mostWays);
      clearTimeout(soon);
      soon = setTimeout(refill, refillMs).unref();
      const place = places.find((one) => one.key === key);
      if (!place) return null;
      places = places.filter((one) => one !== place);
      if ((await place.ready) && place.alive()) return place;
      await place.end();
      return null;
    },
    clear,
    async close() {
      closed = true;
      await making;
      await clear();
    },
  };
}

/** Names that lead to a port are written down with the work. */
const keyOf = ({ address, ports, reach, through, bounded }: Tied): string =>
  JSON.stringify([
    address,
    ports,
    [...new Set(reach.map((one) => one.port))].sort(),
    [...through].sort(),
    [...bounded].sort(),
  ]);

/** Starts the keeper of a chain that is told later. */
export async function spawnKeeper(frame: ChainFrame, bin: string): Promise<Keeper> {
  const call = chainCall(frame, bin);
  const log = openSync(join(frame.folder, 'log.0'), 'a', 0o600);
  // The keeper writes it, as the account of instances.
  if (frame.account) fchownSync(log, frame.account.uid, frame.account.gid);
  const env = { ...call.env, TSUNAGI_LOG: `${segmentBytes} ${segmentsKept}` };
  const child = spawn(call.file, call.args, { env, cwd: '/', detached: true, stdio: ['pipe', log, log] });
  closeSync(log);
  await new Promise<void>((resolve, reject) => child.once('spawn', resolve).once('error', reject));
  const input = child.stdin as Writable;
  // That it has ended is seen by whoever watches it.
  input.on('error', () => {});
  child.unref();
  return {
    pid: child.pid as number,
    // In the unit of the shell's ulimit.
    begin: (fileBytes) => void input.end(`${Math.ceil(fileBytes / 1024)}\n`),
  };
}

/** The process that ties the network of a folder's chain, or null. */
export function pastaOf(folder: string): number | null {
  try {
    const pid = Number(readFileSync(join(folder, 'pasta.pid'), 'utf8').trim());
    return nameOf(pid).startsWith('pas') ? pid : null;
  } catch {
    return null;
  }
}
