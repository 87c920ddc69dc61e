/** Terminals: asked for by a person, taken by an agent, joined at a door, ended by whoever goes first. */
import { terminalNext, type TerminalHappening, takeMs } from '../../core/advance/terminals.js';
import { CodedError, type Issue, issue } from '../../core/errors/errors.js';
import type { TerminalEnd } from '../../core/states.js';
import { newToken, tokenHash } from '../../keys/keys.js';
import type { Caller } from '../../records/callers/people.js';
import { deploymentById } from '../../records/deployments/deployments.js';
import { environmentById } from '../../records/deployments/environments.js';
import { instancesOf } from '../../records/deployments/instances.js';
import { releaseById, type ReleaseRow } from '../../records/deployments/releases.js';
import {
  addTerminal,
  type Arrival,
  lockByTicket,
  lockTerminal,
  openTerminalsOf,
  setArrived,
  setEnded,
  setOpen,
  stopTerminal,
  type TerminalRow,
  terminalsAtWork,
  terminalsFor,
} from '../../records/deployments/terminals.js';
import { recordEvents } from '../../records/events.js';
import { type ProjectRow, projectById } from '../../records/projects/projects.js';
import type { Context, Db } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';

/** Terminals that one caller may have at a time. */
export const mostTerminals = 8;

export interface TerminalAsk {
  project: ProjectRow;
  environment: string;
  caller: Caller;
  /** Program and arguments; none: a shell. */
  command: readonly string[];
  tty: boolean;
  /** Whose files it has; default: a server's, else the first part's. */
  part: string | null;
  /** `api.1`: beside that instance's program. */
  beside: string | null;
}

/** The row, and the ticket that its stream has to show. */
export async function askTerminal(db: Db, ask: TerminalAsk): Promise<{ row: TerminalRow; ticket: string }> {
  const environment = await openEnvironment(db, ask.project, ask.environment);
  const place = placeOf(ask.project, environment);
  const deployment = environment.live_id ? await deploymentById(db, environment.live_id) : null;
  if (!deployment) throw new CodedError('terminal_empty', { environment: place });
  const release = await releaseById(db, deployment.release_id);
  const beside = ask.beside === null ? null : await instanceOf(db, deployment.id, ask.beside, place);
  const part = beside?.part ?? partOf(release, ask.part, place);
  const count = await openTerminalsOf(db, ask.caller.id);
  if (count >= mostTerminals) throw new CodedError('terminal_many', { who: ask.caller.name, count });
  const ticket = newToken('code');
  const row = await addTerminal(db, {
    project: ask.project.id,
    environment: environment.id,
    deployment: deployment.id,
    part,
    instance: beside?.id ?? null,
    caller: ask.caller.id,
    who: ask.caller.name,
    command: ask.command,
    tty: ask.tty,
    ticket: tokenHash(ticket),
  });
  return { row, ticket };
}

function partOf(release: ReleaseRow, wanted: string | null, environment: string): string {
  const names = release.parts.map((one) => one.name);
  const kinds = release.plan.parts;
  const found = wanted === null ? (names.find((name) => kinds[name]?.kind === 'server') ?? names[0]) : wanted;
  if (found === undefined || !names.includes(found))
    throw new CodedError('terminal_part', { environment, name: found ?? '', names: names.join(', ') });
  return found;
}

async function instanceOf(db: Db, deployment: string, name: string, environment: string) {
  const ready = (await instancesOf(db, deployment)).filter((one) => one.state === 'ready' && one.wanted);
  const shown = (one: { part: string; position: number }) => `${one.part}.${one.position}`;
  const found = ready.find((one) => shown(one) === name);
  if (!found)
    throw new CodedError('terminal_instance', { environment, name, names: ready.map(shown).join(', ') || 'none' });
  return found;
}

/** The person's stream is there. Throws `terminal_ticket` where its ticket is not good, or not this caller's. */
export async function arriveAt(
  context: Context,
  id: string,
  { ticket, caller, ...at }: { ticket: string; caller: string } & Arrival,
): Promise<TerminalRow> {
  return context.records.transition('terminal.arrived', async (db) => {
    const row = await lockByTicket(db, id, tokenHash(ticket));
    if (row?.caller_id !== caller || terminalNext(row.state, { what: 'arrived' }) === null)
      throw new CodedError('terminal_ticket');
    await setArrived(db, id, at);
    return row;
  });
}

/** The agent's stream is there. False where it is not this agent's to open, or no longer. */
export async function joinTerminal(
  context: Context,
  id: string,
  by: { agent: string; fence: string },
): Promise<boolean> {
  return context.records.transition('terminal.joined', async (db) => {
    const row = await lockTerminal(db, id);
    if (!row || !holds(row, by) || row.stop || terminalNext(row.state, { what: 'joined' }) === null) return false;
    await setOpen(db, id);
    await tell(db, row, 'terminal.opened', {});
    return true;
  });
}

const holds = (row: TerminalRow, by: { agent: string; fence: string }): boolean =>
  row.agent_id === by.agent && row.fence === by.fence;

export interface TerminalOver {
  why: TerminalEnd;
  exit: number | null;
  issue: Issue | null;
}

/** As its agent says. Whose fence is old has nothing to say. */
export async function reportTerminal(
  context: Context,
  id: string,
  by: { agent: string; fence: string },
  over: TerminalOver,
): Promise<void> {
  await context.records.transition('terminal.over', async (db) => {
    const row = await lockTerminal(db, id);
    if (!row || !holds(row, by)) throw new CodedError('fence_old');
    await end(db, row, { what: 'over', ...over }, over.issue);
  });
}

/** As the service that holds its person says, before an agent has it. */
export async function endAtDoor(context: Context, id: string, why: TerminalEnd, about: Issue | null): Promise<void> {
  await context.records.transition('terminal.over', async (db) => {
    const row = await lockTerminal(db, id);
    if (row) await end(db, row, { what: 'over', why, exit: null }, about);
  });
}

/** Somebody ends it: at once where no agent has it, else its door hears of it. */
export async function stopByHand(db: Db, id: string, environment: string): Promise<TerminalRow> {
  const row = await lockTerminal(db, id);
  if (row?.environment_id !== environment || row.state === 'ended') throw new CodedError('terminal_gone');
  if (row.state === 'asked' || row.state === 'wanted')
    await end(db, row, { what: 'over', why: 'by hand', exit: null }, null);
  await stopTerminal(db, id);
  return row;
}

async function end(db: Db, row: TerminalRow, happening: TerminalHappening, about: Issue | null): Promise<boolean> {
  const next = terminalNext(row.state, happening);
  if (next?.state !== 'ended') return false;
  const why = row.stop && next.why !== 'exit' ? 'by hand' : next.why;
  await setEnded(db, row.id, { ...next, why }, about);
  // Nobody was inside, and nothing was done.
  if (row.state === 'open')
    await tell(db, row, 'terminal.ended', {
      why,
      exit: next.exit,
      seconds: Math.round((Date.now() - (row.opened_at ?? row.since).getTime()) / 1_000),
    });
  return true;
}

async function tell(
  db: Db,
  row: TerminalRow,
  type: 'terminal.opened' | 'terminal.ended',
  data: Record<string, unknown>,
): Promise<void> {
  const [project, environment] = [await projectById(db, row.project_id), await environmentById(db, row.environment_id)];
  await recordEvents(db, {
    type,
    project: row.project_id,
    subject: placeOf(project, environment),
    actor: row.who,
    data: {
      part: row.part,
      beside: row.instance_id !== null,
      command: row.command.length ? row.command.join(' ').slice(0, 200) : 'a shell',
      ...data,
    },
  });
}

/** Ends those whose time is up, whose agent gives no sign of life, or whose environment is there no longer. */
export async function sweepTerminals(context: Context): Promise<void> {
  for (const { id, state, ms, alive, outlived } of await terminalsAtWork(context.records)) {
    const time: TerminalHappening = { what: 'time', sinceMs: ms, agentAlive: alive };
    if (outlived) await stopTerminal(context.records, id);
    if (terminalNext(state, time) === null) continue;
    await context.records.transition('terminal.swept', async (db) => {
      const row = await lockTerminal(db, id);
      if (row && terminalNext(row.state, time))
        await end(db, row, time, row.state === 'wanted' ? issue('terminal_nobody', { seconds: takeMs / 1_000 }) : null);
    });
  }
}

/** An agent that registers anew has none of those of before. */
export async function loseTerminals(context: Context, agent: string): Promise<void> {
  for (const { id } of (await terminalsFor(context.records, agent)).held) await endAtDoor(context, id, 'lost', null);
}
