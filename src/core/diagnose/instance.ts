/** Why an instance is not ready: from facts that the agent gathers to a cause in words. */
import { durationText } from '../durations.js';
import { issue, type Issue } from '../errors/errors.js';
import { diagnoseProgram, type ProgramFacts } from './program.js';

export interface InstanceFacts {
  part: string;
  kind: 'server' | 'worker';
  /** Exit status, or null while it runs. */
  exit: number | null;
  /** It had been ready before. */
  served: boolean;
  port: number | null;
  /** Ports on which something in its network listens. */
  listening: number[];
  /** The loopback address on which alone its own port is listened on; null when it is listened on everywhere. */
  oneAddress: string | null;
  /** It was ended because it needed more than this much memory; null when it was not. */
  outOfMemory: string | null;
  /** What it was started with, for telling what it lacks. */
  program: Omit<ProgramFacts, 'what' | 'exit' | 'lastLines'>;
  ready: string | null;
  /** The ready path's last answer, such as `503`, or null when there was none. */
  answer: string | null;
  waitedMs: number;
  /** The last lines of its log. */
  lastLines: string[];
}

export function diagnoseInstance(facts: InstanceFacts): Issue {
  const { part } = facts;
  if (facts.outOfMemory !== null) return issue('instance_memory', { part, limit: facts.outOfMemory });
  if (facts.exit !== null || !facts.listening.length) {
    // One that waits for an answer may not end: what it printed last tells.
    const cause = diagnoseProgram({ ...facts.program, what: part, exit: facts.exit ?? 0, lastLines: facts.lastLines });
    if (cause && (facts.exit !== null || cause.code === 'waits_for_input')) return cause;
  }
  if (facts.exit !== null)
    return issue(facts.kind === 'worker' ? 'worker_ended' : facts.served ? 'ended_itself' : 'ended_at_once', {
      part,
      exit: statusText(facts.exit),
      line: tellingLine(facts.lastLines),
    });
  const port = facts.port ?? 0;
  const wait = durationText(facts.waitedMs);
  const line = tellingLine(facts.lastLines);
  if (facts.listening.includes(port) && facts.oneAddress !== null && facts.answer === null)
    return issue('listens_one_address', { part, address: facts.oneAddress });
  if (facts.listening.includes(port))
    return issue('not_ready', { part, answer: facts.answer ?? 'nothing', path: facts.ready ?? '/', wait, line });
  if (facts.listening.length) return issue('listens_elsewhere', { part, ports: facts.listening.join(', '), port });
  return issue('not_listening', { part, port, wait, line });
}

/** What a shell adds to the number of a signal (signal(7)), by name; it says more than the sum. */
const signals: Record<number, string> = {
  134: 'SIGABRT',
  135: 'SIGBUS',
  136: 'SIGFPE',
  137: 'SIGKILL',
  139: 'SIGSEGV',
  143: 'SIGTERM',
};
const statusText = (exit: number): string | number => (signals[exit] ? `${exit} (${signals[exit]})` : exit);

/** What a runtime prints below an error, and says nothing of it. */
const runtimeTail = /^(Node\.js v\d|at |\^+$|[{}\]]|\w+: .*,$|node:internal|Thrown at:)/;

/** The line that says most: the first of the last error, else the last one that is not empty. */
function tellingLine(lines: readonly string[]): string {
  const full = lines.map((line) => line.trim()).filter((line) => line !== '' && !runtimeTail.test(line));
  const error = full.findLast((line) => /\b\w*(error|exception|not found|cannot|refused|denied)\b/i.test(line));
  return (error ?? full.at(-1) ?? 'it printed nothing').slice(0, 300);
}
