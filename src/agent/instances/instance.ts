/** One instance: started with a keeper of its own, watched until it ends, and taken up again by a restarted agent. */
import { openAbort } from '../abort.js';
import { durationText } from '../../core/durations.js';
import { CodedError, issue, type Issue } from '../../core/errors/errors.js';
import { untilDone } from '../../wire/rooms/client.js';
import type { InstanceWork } from '../../wire/rooms/work.js';
import type { AgentContext } from '../context.js';
import { type LogSender, makeLogSender } from '../log/log.js';
import { maskerOf } from '../log/masked.js';
import { discard } from '../files/remove.js';
import { groupOf } from '../sandbox/limits.js';
import { firstProcess, programOf, signal } from '../sandbox/processes.js';
import {
  endRemains,
  exitOf,
  folderOf,
  freshState,
  type InstanceState,
  killKeeper,
  launch,
  protectHelpers,
  readState,
  saveLater,
} from './keeper.js';
import { openLogTail } from './logtail.js';
import { takePort } from './ports.js';
import { answers, explain, readiness } from './ready.js';

export interface RunningInstance {
  id: string;
  fence: string;
  kind: 'server' | 'worker';
  folder: string;
  /** It was told to stand still. */
  frozen(): boolean;
  /** It stands still, or goes on; what has become of that is reported. */
  freeze(on: boolean): void;
  /** TERM, then KILL after the drain limit; reports when it has ended. */
  end(): void;
  /** Ends it without a report. */
  drop(): void;
  /** It was told to end, in this way or in that. */
  ending(): boolean;
  dropped(): boolean;
  done: Promise<void>;
}

/** What its agent wants of it. */
interface Wishes {
  end: boolean;
  drop: boolean;
  frozen: boolean;
  /** Aborts with `end`. */
  given: AbortController;
  /** Ends the pause until it is looked at again. */
  rouse(): void;
}

/** `before`: the end of an earlier one of this id, which has the same folder; it is waited for. */
export function startInstance(
  context: AgentContext,
  work: InstanceWork,
  before: Promise<void> = Promise.resolve(),
): RunningInstance {
  return watch(context, freshState(work), folderOf(context.folder, work.id), before);
}

/** Takes an instance of an earlier agent up again, by its folder; null when there is nothing to take up. */
export function adoptInstance(context: AgentContext, folder: string): RunningInstance | null {
  try {
    const state = readState(folder);
    if (state.port !== null) takePort(state.port);
    return watch(context, state, folder, Promise.resolve());
  } catch {
    void discard(context.folder, folder);
    return null;
  }
}

function watch(context: AgentContext, state: InstanceState, folder: string, before: Promise<void>): RunningInstance {
  const { work } = state;
  const wishes: Wishes = {
    end: state.ending,
    drop: false,
    frozen: state.frozen === true,
    given: openAbort(),
    rouse: () => {},
  };
  const report = makeReporter(context, state, wishes);
  let standing: Promise<void> = Promise.resolve();
  const release = context.layers.hold(null, work.layers);
  const done = before
    .then(() => live(context, state, folder, wishes, report))
    .catch((error: Error) => {
      if (!context.stopped())
        context.log.error({ instance: work.id, error: String(error.stack) }, 'an instance was given up');
    })
    .finally(release);
  return {
    id: work.id,
    fence: work.fence,
    kind: work.kind,
    folder,
    frozen: () => wishes.frozen,
    freeze(on) {
      if (wishes.frozen === on) return;
      wishes.frozen = on;
      standing = standing
        .then(() => stand(context, state, folder, wishes, report))
        .catch((error: Error) => context.log.error({ instance: work.id, error: String(error) }, 'it was not frozen'));
    },
    end() {
      wishes.end = true;
      wishes.given.abort();
      wishes.rouse();
    },
    drop() {
      wishes.end = true;
      wishes.drop = true;
      wishes.given.abort();
      wishes.rouse();
    },
    ending: () => wishes.end,
    dropped: () => wishes.drop,
    done,
  };
}

/**
 * Makes all of it stand still, or go on, as is wished by now. That it stands still is written down first: whoever takes it up again does
 * the same. That it goes on is written down after it is told, since somebody waits: a next agent is told once more.
 */
async function stand(
  context: AgentContext,
  state: InstanceState,
  folder: string,
  wishes: Wishes,
  report: (report: Report) => Promise<void>,
): Promise<void> {
  const group = groupOf(context.host.limits, state.work.id);
  const over = () => wishes.end || context.stopped() || exitOf(state, folder) !== null;
  const on = wishes.frozen;
  if (over() || !state.ready) return;
  if (on) {
    saveLater(context, state, folder, { frozen: true });
    if (await group.freeze(true)) return void report({ state: 'frozen' });
    // Somebody waits for it, and then ends it.
    context.log.warn({ instance: state.work.id }, 'it does not stand still');
    saveLater(context, state, folder, { frozen: false });
    await group.freeze(false);
    return;
  }
  await group.freeze(false);
  state.frozen = false;
  for (let wait = 1; !over() && !wishes.frozen; wait = Math.min(100, wait * 1.5)) {
    // It was ready when it was made to stand still; what it says by now, whoever waits for it hears himself.
    const first = firstProcess(folder);
    if (first !== null && programOf(first) !== null) {
      void report({ state: 'ready' });
      break;
    }
    await pause(wait);
  }
  saveLater(context, state, folder, { frozen: false });
}

/** Milliseconds for which a program may listen on other ports alone before that is taken for its mistake. */
const elsewhereMs = 8_000;

/** Milliseconds between two looks at what a program listens on that does not answer. */
const lookMs = 500;

/** Asks a server that was ready, again and again. */
interface Silence {
  /** Asks where it is time to. */
  look(first: number): void;
  /** Why it counts as failed: it has answered nothing for too long; null while it has not. */
  over(): Issue | null;
}

function watchSilence(context: AgentContext, state: InstanceState, since: () => number): Silence {
  const { part, ready } = state.work;
  let asking = false;
  let askedAt = since();
  let silentAt: number | null = null;
  return {
    look(first) {
      if (asking || since() - askedAt < context.silenceMs / 3) return;
      asking = true;
      askedAt = since();
      answers(context, state, first)
        .catch(() => false)
        .then((up) => {
          silentAt = up ? null : (silentAt ?? askedAt);
          asking = false;
        });
    },
    over: () =>
      silentAt !== null && since() - silentAt >= context.silenceMs
        ? issue('silent', { part, path: ready ?? 'its port', time: durationText(context.silenceMs) })
        : null,
  };
}

/** Milliseconds within which most programs are ready. */
const soonMs = 3_000;

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

async function live(
  context: AgentContext,
  state: InstanceState,
  folder: string,
  wishes: Wishes,
  report: (report: Report) => Promise<void>,
): Promise<void> {
  const { work } = state;
  try {
    if (state.keeper === null && !wishes.end) await launch(context, state, folder, wishes.given.signal);
  } catch (error) {
    if (!wishes.end)
      await report({
        state: 'failed',
        issue: issue('instance_setup', { part: work.part, detail: (error as Error).message.slice(0, 300) }),
      });
    else await report({ state: 'ended' });
    return endRemains(context.folder, state, context.host.limits);
  }
  const log = openLog(context, state, folder, wishes);
  // Whether an agent that was killed meanwhile had told it is not known; the service takes it twice. One that ended with the machine
  // is not ready: what follows reports its end.
  if (state.ready && !wishes.end && exitOf(state, folder) === null) {
    if (wishes.frozen) await stand(context, state, folder, wishes, report);
    else {
      // It may have been on its way to go on.
      await groupOf(context.host.limits, work.id).freeze(false);
      void report({ state: 'ready' });
    }
  }
  const began = performance.now();
  const since = () => performance.now() - began;
  let termAt: number | null = null;
  let answer: string | null = null;
  let elsewhere: number | null = null;
  let looked = 0;
  /** As they were seen last. */
  let listening: number[] = [];
  const silence = watchSilence(context, state, since);
  let guarded = false;
  let wait = 10;
  for (;;) {
    log.read();
    const exit = exitOf(state, folder);
    if (exit !== null || state.keeper === null) {
      await log.close();
      const why =
        wishes.end || state.ending
          ? null
          : explain(context, state, folder, { exit, listening: [], answer: null, waitedMs: since() });
      await report({ state: why ? 'failed' : 'ended', exit, issue: why });
      return endRemains(context.folder, state, context.host.limits);
    }
    if (context.stopped()) return;
    const first = firstProcess(folder);
    if (!guarded && first !== null) {
      guarded = true;
      protectHelpers(state, folder);
    }
    if (state.ready && !wishes.end && !wishes.frozen && first !== null && work.kind === 'server') silence.look(first);
    const silent = silence.over();
    if (silent !== null && !wishes.end) {
      killKeeper(state);
      await log.close();
      await report({ state: 'failed', issue: silent });
      wishes.drop = true;
      wishes.end = true;
    }
    if (wishes.end) {
      if (termAt === null) {
        termAt = since();
        saveLater(context, state, folder, { ending: true });
        // What stands still hears nothing.
        if (state.frozen) await groupOf(context.host.limits, work.id).freeze(false);
        const program = first === null ? null : programOf(first);
        if (program !== null) signal(program, 'SIGTERM');
      }
      if (since() - termAt > (wishes.drop ? 1_000 : work.drainMs)) killKeeper(state);
    } else if (!state.ready && first !== null) {
      const late = since() > work.readyMs;
      const look = late || since() - looked > lookMs;
      const check = await readiness(context, state, first, look);
      if (check.listening) [looked, listening] = [since(), check.listening];
      answer = check.answer ?? answer;
      if (check.ready) {
        saveLater(context, state, folder, { ready: true });
        void report({ state: 'ready' });
      } else if (check.listening) {
        const away = check.listening.length > 0 && !check.listening.includes(state.port ?? 0);
        elsewhere = away ? (elsewhere ?? since()) : null;
      }
      if (!state.ready && (late || (elsewhere !== null && since() - elsewhere > elsewhereMs))) {
        const why = explain(context, state, folder, {
          exit: null,
          listening,
          answer,
          waitedMs: since(),
        });
        killKeeper(state);
        await log.close();
        await report({ state: 'failed', issue: why });
        wishes.drop = true;
        wishes.end = true;
      }
    }
    // Most programs are ready soon, and somebody waits for that.
    wait = state.ready && !wishes.end ? Math.min(250, wait * 1.3) : Math.min(since() < soonMs ? 15 : 50, wait * 1.2);
    await new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, wait);
      wishes.rouse = () => {
        clearTimeout(timer);
        resolve();
      };
    });
  }
}

type Report = { state: 'ready' | 'frozen' | 'failed' | 'ended'; exit?: number | null; issue?: Issue | null };

/** Reports go out one after another; whoever does not wait for one does not hear of its failure, which the log tells. */
function makeReporter(context: AgentContext, state: InstanceState, wishes: Wishes): (report: Report) => Promise<void> {
  const { work } = state;
  let last: Promise<void> = Promise.resolve();
  const send = async (report: Report): Promise<void> => {
    if (wishes.drop) return;
    try {
      await untilDone(
        () =>
          context.client.post(`/api/agent/instances/${work.id}/report`, {
            fence: work.fence,
            port: state.port,
            exit: null,
            issue: null,
            ...report,
          }),
        () => context.stopped() || wishes.drop,
      );
    } catch (error) {
      if (!(error instanceof CodedError)) {
        if (!context.stopped())
          context.log.warn({ instance: work.id, error: String(error) }, 'a report did not arrive');
        return;
      }
      if (error.issue.code !== 'fence_old')
        context.log.error({ instance: work.id, issue: error.issue }, 'a report was refused');
      // It is someone else's, or the service will never hear of it: it ends here.
      wishes.drop = true;
      wishes.end = true;
    }
  };
  return (report) => {
    last = last.then(() => send(report));
    return last;
  };
}

/** Milliseconds between two notes of how far the log was sent. */
const noteEvery = 2_000;

interface InstanceLog {
  /** Sends what was printed since. */
  read(): void;
  /** Sends the rest, and waits until the service has it. */
  close(): Promise<void>;
}

function openLog(context: AgentContext, state: InstanceState, folder: string, wishes: Wishes): InstanceLog {
  const { work, log } = state;
  const masker = maskerOf(work);
  const sender: LogSender = makeLogSender(
    context.client,
    `/api/agent/instances/${work.id}/log`,
    work.fence,
    log.position,
    () => context.stopped() || wishes.drop,
  );
  let written = log.position;
  let room = true;
  const show = (bytes: Buffer): boolean => {
    written += bytes.length;
    room = sender.write(bytes, 0);
    return room;
  };
  const tail = openLogTail(
    folder,
    log,
    (bytes) => show(masker.take(bytes)),
    (lost) => void show(Buffer.from(`[${lost} bytes are not kept: they were printed faster than they were read]\n`)),
  );
  let noted = performance.now();
  const note = () => {
    if (performance.now() - noted < noteEvery || sender.acknowledged() !== written) return;
    const { segment, offset } = tail.place();
    const held = masker.held();
    noted = performance.now();
    if (held > offset || (segment === state.log.segment && offset - held === state.log.offset)) return;
    saveLater(context, state, folder, { log: { segment, offset: offset - held, position: written } });
  };
  return {
    read() {
      room = room || sender.hasRoom();
      if (room) tail.read();
      note();
    },
    async close() {
      while (!wishes.drop && !context.stopped()) {
        tail.read();
        if (room) break;
        await sender.drained();
        room = true;
      }
      show(masker.rest());
      await sender.flush();
    },
  };
}
