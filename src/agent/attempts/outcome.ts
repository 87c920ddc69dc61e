/** What the runner inside told, and what that means: how an attempt has ended, and why in words. */
import { createInterface } from 'node:readline';
import { durationSource } from '../../core/durations.js';
import { diagnoseProgram, type ProgramFacts } from '../../core/diagnose/program.js';
import { issue, type Issue } from '../../core/errors/errors.js';
import { sizeText } from '../../core/sizes.js';
import type { Masker } from '../../core/secrets/mask.js';
import { type Coverage, parseLcov } from '../../core/results/coverage.js';
import type { TestResults } from '../../core/results/model.js';
import { readResults } from '../../core/results/read.js';
import type { AttemptWork } from '../../wire/rooms/work.js';
import { type Ended, maskerOf } from '../log/masked.js';
import type { AttemptBounds } from '../sandbox/host.js';
import type { GroupFacts } from '../sandbox/limits.js';

/** Why an attempt is ended from outside. */
export type Cause = 'timeout' | 'stop' | 'disk' | 'files' | 'database' | 'floor';

/** What the chain says on its third descriptor. */
export interface Told {
  exit: number | null;
  position: number;
  /** A command has begun. */
  started: boolean;
  missing: string[];
  /** Places inside that are full. */
  full: string[];
  noResults: boolean;
  noCoverage: boolean;
  notKept: boolean;
  /** Something in the outputs is a socket. */
  socket: boolean;
  done: boolean;
}

export async function readControl(
  control: NodeJS.ReadableStream,
  told: Told,
  makes: string[],
  started: (position: number) => void,
  ended: (position: number, exit: number, ms: number) => void,
  done: () => void,
): Promise<void> {
  for await (const line of createInterface({ input: control })) {
    const [what, a, b, c] = line.split(' ');
    if (what === 'started') {
      told.position = Number(a);
      told.started = true;
      told.exit = null;
      started(told.position);
    } else if (what === 'ended') {
      told.exit = Number(b);
      ended(Number(a), Number(b), Number(c) / 1000);
    } else if (what === 'missing') told.missing.push(makes[Number(a)] ?? '?');
    else if (what === 'full') told.full.push(a ?? '');
    else if (what === 'no-results') told.noResults = true;
    else if (what === 'no-coverage') told.noCoverage = true;
    else if (what === 'not-kept') told.notKept = true;
    else if (what === 'socket') told.socket = true;
    else if (what === 'done') {
      told.done = true;
      done();
    }
  }
}

/** The signal SIGXFSZ. */
const fileTooLong = 25;
/** SIGPIPE: nobody reads any more. */
const brokenPipe = 13;

/** What is looked at only when a command has failed. */
export interface FailureScene {
  lastLines(): string[];
  files(): string[];
  textOf(path: string): string | null;
  tools: Record<string, string>;
}

/** All that is known of how it went. */
export interface Outcome {
  told: Told;
  cause: Cause | null;
  /** Of `floor`: bytes that it had written, and that were left on the disk. */
  low: { written: number; left: number } | null;
  /** What the chain itself said. */
  errors: string;
  bounds: AttemptBounds;
  facts(): GroupFacts;
  output: { digest: string; size: number } | null;
  /** Why what was handed out as output is not kept. */
  refusal: Issue | null;
  /** What was handed out as results and as coverage; null where it was too much. */
  results: Buffer | null;
  coverage: Buffer | null;
  scene: FailureScene;
}

/** How the attempt has ended, and what of the code it has run. */
export function judge(work: AttemptWork, outcome: Outcome): { ended: Ended; coverage: Coverage | null } {
  const coverage = work.coverage ? readCoverage(work.coverage, outcome.coverage, outcome.told) : null;
  const ended = endOf(work, outcome, coverage?.refusal ?? null);
  return { ended, coverage: coverage?.coverage ?? null };
}

function endOf(
  work: AttemptWork,
  { told, cause, low, errors, bounds, facts: look, output, refusal, results, scene }: Outcome,
  uncovered: Issue | null,
): Ended {
  const tests = work.results ? readTests(work.results, results, told, maskerOf(work)) : null;
  const failed = (why: Issue, state: 'failed' | 'stopped' = 'failed'): Ended => ({
    what: 'ended',
    state,
    issue: why as never,
    output: null,
    tests: tests?.results ?? null,
  });
  if (cause === 'timeout') return failed(issue('task_timeout', { timeout: durationSource(work.timeoutMs) }));
  if (cause === 'stop') return failed(issue('stopped_by', { who: 'a person' }), 'stopped');
  if (cause === 'disk')
    return failed(issue('disk_full', { place: 'The project’s folder', limit: sizeText(bounds.disk) }));
  if (cause === 'floor')
    return failed(issue('agent_disk_low', { written: sizeText(low?.written ?? 0), left: sizeText(low?.left ?? 0) }));
  if (cause === 'files') return failed(issue('too_many_files', { limit: bounds.files }));
  if (cause === 'database') return failed(issue('database_full', { limit: sizeText(bounds.database) }));
  const command = (work.commands[told.position] ?? '').slice(0, 200);
  const facts = told.exit === 0 ? { outOfMemory: 0, refusedProcesses: 0 } : look();
  if (told.exit !== 0 && facts.outOfMemory > 0)
    return failed(issue('out_of_memory', { command, limit: sizeText(bounds.memory) }));
  if (told.exit !== 0 && told.full.length)
    return failed(
      issue('disk_full', { place: told.full[0] === '/tmp' ? '/tmp' : 'HOME', limit: sizeText(bounds.tmp) }),
    );
  if (told.exit !== 0 && facts.refusedProcesses > 0)
    return failed(issue('too_many_processes', { command, limit: bounds.processes }));
  // A file that may not become longer ends who writes it.
  if (told.exit === 128 + fileTooLong)
    return failed(issue('disk_full', { place: 'The project’s folder', limit: sizeText(bounds.disk) }));
  if (told.exit === 128 + brokenPipe && command.includes('|')) return failed(issue('pipe_ended', { command }));
  if (told.exit !== null && told.exit > 128 && told.exit < 160)
    return failed(issue('command_killed', { command, signal: told.exit - 128 }));
  // Tests that failed say best what is wrong.
  const said =
    told.exit !== null && told.exit !== 0 && !tests?.results?.failed && !work.unquoted
      ? diagnoseProgram(programFacts(work, command, told.exit, scene))
      : null;
  if (said) return failed(said);
  if (told.exit !== null && told.exit !== 0)
    return failed(issue('command_failed', { command, exit: told.exit, look: logCommand(work) }));
  if (told.exit === 0 && refusal && told.missing.length === 0) return failed(refusal);
  if (!told.done && told.started && told.exit === null) return failed(issue('sandbox_killed', { command }));
  if (!told.done) return failed(issue('setup_failed', { detail: errors.trim() || 'it was ended from outside' }));
  if (told.missing.length) return failed(issue('output_missing', { path: told.missing.join(', ') }));
  if (told.socket)
    return failed(issue('output_unsafe', { path: work.makes.join(', '), why: 'it is, or holds, a socket' }));
  if (told.notKept) return failed(issue('output_unsafe', { path: work.makes.join(', '), why: 'it could not be read' }));
  if (tests?.refusal) return failed(tests.refusal);
  if (uncovered) return failed(uncovered);
  return {
    what: 'ended',
    state: 'passed',
    issue: null,
    output: work.makes.length ? output : null,
    tests: tests?.results ?? null,
  };
}

function readTests(
  path: string,
  bytes: Buffer | null,
  told: Told,
  masker: Masker,
): { results: TestResults | null; refusal: Issue | null } {
  if (told.noResults || told.exit === null) return { results: null, refusal: issue('results_missing', { path }) };
  if (bytes === null)
    return { results: null, refusal: issue('results_unreadable', { path, detail: 'it is too large' }) };
  const { results, detail } = readResults(masker.text(bytes.toString('utf8')));
  return { results, refusal: results ? null : issue('results_unreadable', { path, detail: detail ?? '' }) };
}

function readCoverage(
  path: string,
  bytes: Buffer | null,
  told: Told,
): { coverage: Coverage | null; refusal: Issue | null } {
  if (told.noCoverage || told.exit === null) return { coverage: null, refusal: issue('coverage_missing', { path }) };
  const { coverage, detail } =
    bytes === null ? { coverage: null, detail: 'it is too large' } : parseLcov(bytes.toString('utf8'));
  return { coverage, refusal: coverage ? null : issue('coverage_unreadable', { path, detail: detail ?? '' }) };
}

/** What shows the whole output: `run 131 unit` is the label of a task, `d17 verify` one of a deployment. */
function logCommand({ label }: AttemptWork): string {
  const [first = '', number = '', ...task] = label.split(' ');
  return first === 'run' ? `run log ${number} ${task.join(' ')}` : `deployment log ${[first, number].join(' ').trim()}`;
}

const programFacts = (work: AttemptWork, command: string, exit: number, scene: FailureScene): ProgramFacts => ({
  what: `\`${command.split('\n')[0] ?? ''}\` failed`,
  command,
  exit,
  lastLines: scene.lastLines(),
  variables: Object.keys(work.variables),
  tools: scene.tools,
  files: scene.files(),
  network: work.network === 'open',
  textOf: scene.textOf,
});
