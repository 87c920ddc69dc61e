/** A chain that has been let go, followed to its end. The first cause of an end wins. */
import { join } from 'node:path';
import type { AttemptReport, AttemptWork } from '../../wire/rooms/work.js';
import type { AgentContext } from '../context.js';
import { watchDisk } from '../files/disk.js';
import type { KeptLog } from '../log/keptlog.js';
import type { Ended } from '../log/masked.js';
import { type Cause, judge, readControl, type Told } from './outcome.js';
import { takeOutput, takeResults } from './outputs.js';
import type { AttemptBounds } from '../sandbox/host.js';
import type { HeldChain } from '../sandbox/ready.js';
import { splitSections } from '../log/sections.js';
import { makeTail, seenFiles, seenText } from './seen.js';

/** Between TERM and KILL, in milliseconds. */
const graceMs = 5_000;
/** The first process of a sandbox, which is bubblewrap's, and the runner: TERM is for the work alone. */
const ownProcesses = 2;

export interface Followed {
  context: AgentContext;
  work: AttemptWork;
  /** What it may take. */
  bounds: AttemptBounds;
  chain: HeldChain;
  abort: AbortSignal;
  log: KeptLog;
  happens: (one: AttemptReport['happenings'][number]) => void;
  /** Stands between the commands' output, and behind what is handed out. */
  mark: string;
  makes: string[];
  layers: readonly string[];
  /** Where the outputs are written. */
  tar: string;
  caches: readonly { from: string }[];
  databases: { size(): Promise<number> };
}

/** What had started the work is gone, and took it along: nobody has anything to say of it, and it is done again. */
export class Orphaned extends Error {
  constructor() {
    super('the process that starts chains has ended');
  }
}

export async function follow(followed: Followed): Promise<Ended> {
  const { context, work, bounds, chain, abort, log, happens, mark, makes } = followed;
  const { folder, streams } = chain;
  const tail = makeTail();
  let printing = 0;
  let cause: Cause | null = null;
  const end = (why: Cause) => {
    cause ??= why;
    void endTree(chain);
  };
  let low: { written: number; left: number } | null = null;
  const watching = watch(followed, end);
  const leaveFloor = context.floor.add({
    bytes: watching.bytes,
    end(left) {
      low ??= { written: watching.bytes(), left };
      end('floor');
    },
  });
  const stop = () => end('stop');
  abort.addEventListener('abort', stop);
  if (abort.aborted) stop();

  let errors = '';
  streams.errors.on('data', (chunk: Buffer) => {
    errors = (errors + chunk.toString('utf8')).slice(-1000);
  });
  const told: Told = {
    exit: null,
    position: 0,
    started: false,
    missing: [],
    full: [],
    noResults: false,
    noCoverage: false,
    notKept: false,
    socket: false,
    done: false,
  };
  const { output } = streams;
  const sections = splitSections(mark);
  const firstLines: (number | undefined)[] = [];
  let over = () => {};
  // All is told, and all that was printed and handed out is here: what is left of the chain ends without being waited for.
  const whole = () => {
    if (told.done && sections.seen() > told.position && handed.whole() && results.whole()) over();
  };
  const behind = Buffer.from(`\0${mark}\0`);
  const handed = takeOutput(streams.outputs, behind, makes.length ? followed.tar : null, bounds.disk, () => whole());
  const results = takeResults(streams.results, Buffer.from(`\0coverage ${mark}\0`), behind, () => whole());
  const controlled = readControl(
    streams.control,
    told,
    makes,
    (position) => {
      // The service has put down the first command of a task when it gave it out.
      if (position > 0 || work.kind !== 'task') happens({ what: 'command-started', position, firstLine: log.lines() });
    },
    (position, exit, ms) => happens({ what: 'command-ended', position, exit, ms }),
    () => whole(),
  ).catch(() => {});
  output.on('data', (chunk: Buffer) => {
    let room = true;
    for (const piece of sections.push(chunk)) {
      // What is told of a command's beginning may come before or after what the one before it has printed.
      firstLines[piece.section] ??= log.lines();
      if (piece.section !== printing) tail.clear();
      printing = piece.section;
      tail.push(piece.bytes);
      room = log.write(piece.bytes, piece.section) && room;
    }
    whole();
    if (room) return;
    output.pause();
    void log.drained().then(() => output.resume());
  });
  await new Promise<void>((resolve) => {
    void chain.closed.then(resolve);
    over = resolve;
    whole();
  }).finally(() => {
    watching.stop();
    leaveFloor();
  });
  abort.removeEventListener('abort', stop);
  if (!told.done && !cause && chain.orphaned()) throw new Orphaned();
  for (const piece of sections.end()) log.write(piece.bytes, piece.section);
  if (!told.done) await controlled;
  const kept = await handed.end();
  const scene = {
    lastLines: () => tail.lines(),
    files: () => seenFiles([...followed.layers, join(folder, 'u')]),
    // The layers alone: what the work itself has written may change under the hand.
    textOf: (path: string) => seenText(followed.layers, path),
    tools: context.tools,
  };
  const { ended, coverage } = judge(work, {
    told,
    cause,
    low,
    errors,
    bounds,
    facts: chain.group.facts,
    ...kept,
    ...results.end(),
    scene,
  });
  if (coverage) happens({ what: 'covered', ...coverage });
  // A command that printed nothing begins where the next one does.
  for (let at = work.commands.length - 1, next = log.lines(); at >= 0; at--) next = firstLines[at] ??= next;
  return { ...ended, firstLines: firstLines.slice(0, work.commands.length) as number[] };
}

/** Milliseconds between two looks at the size of databases. */
const databasesEveryMs = 3_000;

/** Ends it when its time is up, or when it takes more than it may. */
function watch(
  { work, bounds, chain, caches, databases }: Followed,
  end: (why: Cause) => void,
): { stop(): void; bytes(): number } {
  const timer = setTimeout(() => end('timeout'), work.timeoutMs);
  const disk = watchDisk(
    [chain.folder, ...caches.map((one) => one.from)],
    { bytes: bounds.disk, files: bounds.files },
    end,
  );
  const looking = Object.keys(work.resources).length
    ? setInterval(() => {
        databases.size().then(
          (bytes) => bytes > bounds.database && end('database'),
          () => {},
        );
      }, databasesEveryMs)
    : null;
  looking?.unref();
  return {
    bytes: disk.bytes,
    stop() {
      clearTimeout(timer);
      disk.stop();
      if (looking) clearInterval(looking);
    },
  };
}

/** TERM to what runs inside, KILL to all of it after the grace. */
async function endTree(chain: HeldChain): Promise<void> {
  chain.group.terminate(ownProcesses);
  for (let waited = 0; waited < graceMs && !chain.over(); waited += 50)
    await new Promise((resolve) => setTimeout(resolve, 50));
  if (!chain.over()) chain.kill();
}
