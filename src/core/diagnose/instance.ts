/** Why an instance is not ready: from facts that the agent gathers to a cause in words. */
import { durationText } from '../durations.js';
import { issue, type Issue } from '../errors.js';

export interface InstanceFacts {
  part: string;
  kind: 'server' | 'worker';
  /** Exit status, or null while it runs. */
  exit: number | null;
  port: number | null;
  /** Ports on which something in its network listens. */
  listening: number[];
  ready: string | null;
  /** The ready path's last answer, such as `503`, or null when there was none. */
  answer: string | null;
  waitedMs: number;
  /** The last lines of its log. */
  lastLines: string[];
}

export function diagnoseInstance(facts: InstanceFacts): Issue {
  const { part } = facts;
  if (facts.exit !== null)
    return issue(facts.kind === 'worker' ? 'worker_ended' : 'ended_at_once', { part, exit: facts.exit, line: tellingLine(facts.lastLines) });
  const port = facts.port ?? 0;
  const wait = durationText(facts.waitedMs);
  if (facts.listening.includes(port)) return issue('not_ready', { part, answer: facts.answer ?? 'nothing', path: facts.ready ?? '/', wait });
  if (facts.listening.length) return issue('listens_elsewhere', { part, ports: facts.listening.join(', '), port });
  return issue('not_listening', { part, port, wait });
}

/** The line that says most: the last one that looks like an error, else the last that is not empty. */
function tellingLine(lines: readonly string[]): string {
  const full = lines.map((line) => line.trim()).filter((line) => line !== '');
  const error = full.findLast((line) => /\b\w*(error|exception|not found|cannot|refused|denied)\b/i.test(line) && !/^at /.test(line));
  return (error ?? full.at(-1) ?? 'it printed nothing').slice(0, 300);
}
