/** Whether an instance is ready, and why it is not. */
import { request } from 'node:http';
import { connect } from 'node:http2';
import { connect as connectTcp } from 'node:net';
import { diagnoseInstance } from '../../core/diagnose/instance.js';
import { issue, type Issue } from '../../core/errors/errors.js';
import { sizeText } from '../../core/sizes.js';
import type { AgentContext } from '../context.js';
import { maskerOf, maskIssue } from '../log/masked.js';
import { groupOf } from '../sandbox/limits.js';
import { firstProcess, listeningPorts, onlyLoopback, programOf } from '../sandbox/processes.js';
import { seenFiles, seenText } from '../attempts/seen.js';
import { type InstanceState, leaseOver, limitsOf, networkOver } from './keeper.js';
import { lastLines } from './logtail.js';

export interface Readiness {
  ready: boolean;
  /** Ports on which something in its network listens; null: not looked at. */
  listening: number[] | null;
  /** The ready path's answer, or null when there was none. */
  answer: string | null;
}

/**
 * What listens is looked at when something has answered, and where `look` says so: that takes longer than to ask, and whoever waits
 * for a program asks often.
 */
export async function readiness(
  context: AgentContext,
  { work, port }: InstanceState,
  first: number,
  look: boolean,
): Promise<Readiness> {
  if (work.kind === 'worker' || port === null) return { ready: programOf(first) !== null, listening: [], answer: null };
  const portsOf = (): number[] => ownPorts(listeningPorts(first, port), work);
  if (work.ready === null) {
    const listening = portsOf();
    return { ready: listening.includes(port), listening, answer: null };
  }
  const status = await (work.http2 ? askHttp2 : ask)(context.address, port, work.ready);
  if (status === null && !look) return { ready: false, listening: null, answer: null };
  // Who answers may be another one at this port of the machine.
  const listening = portsOf();
  const own = listening.includes(port);
  return {
    ready: own && status !== null && status >= 200 && status < 400,
    listening,
    answer: own && status !== null ? String(status) : null,
  };
}

/** Ports on which the program itself listens: those that lead to its database and the like are ours. */
const ownPorts = (listening: readonly number[], { reach = [] }: InstanceState['work']): number[] =>
  listening.filter((port) => !reach.some((one) => one.port === port));

/** Whether a server that was ready still answers: anything, also an error, or where it has no ready path that something listens. */
export async function answers(context: AgentContext, { work, port }: InstanceState, first: number): Promise<boolean> {
  if (port === null) return true;
  // Asked from outside of its sandbox, as an edge does: so its way there is tried, too.
  if (work.ready === null) return connects(context.address, port);
  return (await (work.http2 ? askHttp2 : ask)(context.address, port, work.ready)) !== null && first > 0;
}

function connects(host: string, port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = connectTcp({ host, port, timeout: askMs });
    let held = false;
    const over = (up: boolean) => {
      socket.destroy();
      resolve(up);
    };
    // What passes connections on accepts first, and hangs up at once where nobody is behind it.
    socket.once('connect', () => {
      held = true;
      setTimeout(() => over(true), 100).unref();
    });
    socket.once('timeout', () => over(held));
    socket.once('error', () => over(false));
    socket.once('close', () => over(false));
  });
}

/** Milliseconds for one answer, however it drips in. */
const askMs = 2_000;

function ask(host: string, port: number, path: string): Promise<number | null> {
  return new Promise((resolve) => {
    const call = request(
      {
        host,
        port,
        path,
        agent: false,
        headers: { connection: 'close' },
        // Of the whole answer: one that comes byte by byte is none.
        signal: AbortSignal.timeout(askMs),
      },
      (answer) => {
        answer.on('error', () => {});
        answer.destroy();
        resolve(answer.statusCode ?? null);
      },
    );
    call.on('error', () => resolve(null));
    call.end();
  });
}

function askHttp2(host: string, port: number, path: string): Promise<number | null> {
  return new Promise((resolve) => {
    const session = connect(`http://${host}:${port}`);
    const over = (status: number | null) => {
      clearTimeout(late);
      session.destroy();
      resolve(status);
    };
    const late = setTimeout(() => over(null), askMs);
    session.on('error', () => over(null));
    const stream = session.request({ ':path': path });
    stream.on('error', () => over(null));
    stream.on('response', (headers) => over(headers[':status'] ?? null));
    stream.end();
  });
}

/** Why it ended, or is not ready after `waitedMs`. */
export function explain(
  context: AgentContext,
  state: InstanceState,
  folder: string,
  {
    exit,
    listening,
    answer,
    waitedMs,
  }: { exit: number | null; listening: number[]; answer: string | null; waitedMs: number },
): Issue {
  const { work } = state;
  if (exit !== null && leaseOver(folder)) return issue('lease_over', { part: work.part });
  if (exit !== null && networkOver(folder)) return issue('network_over', { part: work.part });
  return maskIssue(
    diagnoseInstance({
      part: work.part,
      kind: work.kind,
      exit,
      served: state.ready,
      port: state.port,
      listening,
      ready: work.ready,
      answer,
      waitedMs,
      lastLines: lastLines(folder),
      oneAddress: state.port === null ? null : onlyLoopback(firstProcess(folder), state.port),
      outOfMemory:
        groupOf(context.host.limits, work.id).facts().outOfMemory > 0 ? sizeText(limitsOf(work).memory) : null,
      program: {
        command: work.start,
        variables: Object.keys({ ...work.variables, PORT: '' }),
        tools: context.tools,
        files: seenFiles(work.layers.map((digest) => context.layers.at(digest))),
        network: true,
        textOf: (path: string) =>
          seenText(
            work.layers.map((digest) => context.layers.at(digest)),
            path,
          ),
      },
    }),
    maskerOf(work),
  );
}
