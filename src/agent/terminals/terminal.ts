/** A person's terminal on this agent: its stream out to the service, its program, and how both end. The first cause of an end wins. */
import { existsSync } from 'node:fs';
import { openAbort } from '../abort.js';
import { CodedError, type Issue, issue, wording } from '../../core/errors/errors.js';
import type { TerminalEnd } from '../../core/states.js';
import { channels, messageBytes } from '../../core/streams.js';
import { FromPerson, ToldOver } from '../../wire/environments/terminals.js';
import { untilDone } from '../../wire/rooms/client.js';
import { parsed } from '../../wire/rooms/fits.js';
import { dial, openStream, type Stream } from '../../wire/rooms/stream.js';
import type { TerminalWork } from '../../wire/rooms/work.js';
import type { AgentContext } from '../context.js';
import { folderOf } from '../instances/keeper.js';
import { openBeside } from './beside.js';
import { openFresh } from './fresh.js';
import type { Hand } from './hand.js';

export interface RunningTerminal {
  id: string;
  fence: string;
  /** Ends it without a report: it is over, or someone else's. */
  drop(): void;
  done: Promise<void>;
}

interface Over {
  why: TerminalEnd;
  exit: number | null;
  issue: Issue | null;
}

/** `to`: where the agent finds the service, and the token that it shows. */
export function startTerminal(
  context: AgentContext,
  work: TerminalWork,
  to: { url: string; token: string },
): RunningTerminal {
  const dropping = openAbort();
  const done = perform(context, work, to, dropping.signal).catch((error: Error) => {
    if (!context.stopped())
      context.log.error({ terminal: work.id, error: String(error.stack) }, 'a terminal was given up');
  });
  return { id: work.id, fence: work.fence, drop: () => dropping.abort(), done };
}

async function perform(
  context: AgentContext,
  work: TerminalWork,
  to: { url: string; token: string },
  dropped: AbortSignal,
): Promise<void> {
  const url = new URL(`/api/agent/terminals/${work.id}/stream?fence=${work.fence}`, work.door ?? to.url);
  url.protocol = url.protocol === 'https:' ? 'wss:' : 'ws:';
  const socket = dial(url, to.token);
  const stream = openStream(socket);
  const connected = new Promise<void>((resolve) => socket.once('open', () => resolve()));
  const gone = AbortSignal.any([dropped, whenClosed(stream)]);
  let hand: Hand | null = null;
  let over: Over;
  try {
    // The one is made while the other is on its way.
    const opening = openHand(context, work, gone);
    opening.catch(() => {});
    await Promise.race([connected, stream.closed]);
    hand = await opening;
    over = stream.isOpen() ? await follow(work, stream, hand, dropped) : { why: 'left', exit: null, issue: null };
  } catch (error) {
    const about =
      error instanceof CodedError
        ? error.issue
        : issue('setup_failed', { detail: (error as Error).message.slice(0, 300) });
    over = { why: 'failed', exit: null, issue: about };
  }
  await hand?.clear();
  const said = over.issue && wording(over.issue);
  if (stream.isOpen())
    stream.tell({ ended: { why: over.why, exit: over.exit, says: said ? `${said.says} ${said.next}` : null } });
  if (!dropped.aborted)
    await untilDone(
      () => context.client.post(`/api/agent/terminals/${work.id}/report`, { fence: work.fence, ...over }),
      () => context.stopped() || dropped.aborted,
    ).catch((error) => {
      // It is over already, as somebody else has said.
      if (!(error instanceof CodedError) || error.issue.code !== 'fence_old') throw error;
    });
  stream.close();
}

function whenClosed(stream: Stream): AbortSignal {
  const closed = openAbort();
  void stream.closed.then(() => closed.abort());
  return closed.signal;
}

function openHand(context: AgentContext, work: TerminalWork, given: AbortSignal): Promise<Hand> {
  if (work.beside === null) return openFresh(context, work, given);
  if (!existsSync(folderOf(context.folder, work.beside)))
    throw new CodedError('setup_failed', { detail: 'its instance has ended meanwhile' });
  return openBeside(context, work, work.beside);
}

/** Joins the two until one of them, its time, or somebody ends it. */
async function follow(work: TerminalWork, stream: Stream, hand: Hand, dropped: AbortSignal): Promise<Over> {
  let last = performance.now();
  let why: TerminalEnd | null = null;
  const endFor = (reason: TerminalEnd) => {
    if (why !== null) return;
    why = reason;
    hand.end();
    // Nobody reads it any more: it must not hold its program up.
    if (reason === 'left') for (const one of [hand.output, hand.errors]) one.resume();
  };
  stream.take((data, binary) => {
    last = performance.now();
    if (binary) {
      if (data[0] !== channels.input || hand.input.writableEnded) return;
      if (!hand.input.write(data.subarray(1))) {
        stream.pause();
        hand.input.once('drain', () => stream.resume());
      }
      return;
    }
    const text = data.toString('utf8');
    const told = parsed(ToldOver, text);
    if (told) return endFor(told.over);
    const said = parsed(FromPerson, text);
    if (said && 'size' in said) hand.resize(...said.size);
    else if (said && !hand.input.writableEnded) hand.input.end();
  });
  for (const [name, from] of [
    [channels.output, hand.output],
    [channels.errors, hand.errors],
  ] as const)
    from.on('data', (bytes: Buffer) => {
      last = performance.now();
      for (let at = 0; at < bytes.length; at += messageBytes) {
        const message = Buffer.concat([Buffer.of(name), bytes.subarray(at, at + messageBytes)]);
        if (!stream.send(message, () => from.resume())) from.pause();
      }
    });
  stream.tell({ begun: true });
  const idle = setInterval(
    () => {
      if (performance.now() - last >= work.idleMs) endFor('idle');
    },
    Math.max(50, Math.min(5_000, work.idleMs / 4)),
  );
  const longest = setTimeout(() => endFor('too long'), work.longestMs);
  const drop = () => endFor('lost');
  dropped.addEventListener('abort', drop);
  void stream.closed.then(() => endFor('left'));
  try {
    const exit = await hand.ended;
    return why === null ? { why: 'exit', exit, issue: null } : { why, exit: null, issue: null };
  } finally {
    clearInterval(idle);
    clearTimeout(longest);
    dropped.removeEventListener('abort', drop);
  }
}
