/**
 * A person's terminal in an environment. Two streams meet at one service: that of the person, who has a ticket, and that of the agent,
 * who takes it as it takes work. What happens to either is a happening; the fence says whose word counts.
 *
 * | state  | in it                                          | left when                                                       |
 * |--------|------------------------------------------------|-----------------------------------------------------------------|
 * | asked  | its ticket is good, for half a minute           | the person's stream is there → wanted; too late → ended (left)   |
 * | wanted | an agent is to take it                          | taken → given; the person leaves, or nobody takes it → ended     |
 * | given  | its agent makes the sandbox and opens a stream  | streams are joined → open; told, or nothing comes → ended        |
 * | open   | bytes go both ways                              | its program, its person, its time or its agent ends → ended      |
 * | ended  | who, what, how long and how it went is kept     |                                                                 |
 */
import type { TerminalEnd, TerminalState } from '../states.js';

/** Milliseconds for which a ticket is good, in which an agent must take it, and in which that must open its stream. */
export const ticketMs = 30_000;
export const takeMs = 20_000;
export const openMs = 60_000;

export type TerminalHappening =
  /** The person's stream is there. */
  | { what: 'arrived' }
  | { what: 'taken' }
  /** The agent's stream is there. */
  | { what: 'joined' }
  /** As whoever saw it says. */
  | { what: 'over'; why: TerminalEnd; exit: number | null }
  | { what: 'time'; sinceMs: number; agentAlive: boolean };

export interface TerminalStep {
  state: TerminalState;
  why: TerminalEnd | null;
  /** Exit status of its program; null: it has none, or nobody knows it. */
  exit: number | null;
}

/** What it is next, or null where this changes nothing. */
export function terminalNext(state: TerminalState, happens: TerminalHappening): TerminalStep | null {
  const to = (next: TerminalState): TerminalStep => ({ state: next, why: null, exit: null });
  const end = (why: TerminalEnd, exit: number | null = null): TerminalStep => ({ state: 'ended', why, exit });
  if (state === 'ended') return null;
  switch (happens.what) {
    case 'arrived':
      return state === 'asked' ? to('wanted') : null;
    case 'taken':
      return state === 'wanted' ? to('given') : null;
    case 'joined':
      return state === 'given' ? to('open') : null;
    case 'over':
      return end(happens.why, happens.why === 'exit' ? happens.exit : null);
    case 'time':
      if (state === 'asked') return happens.sinceMs >= ticketMs ? end('left') : null;
      if (state === 'wanted') return happens.sinceMs >= takeMs ? end('lost') : null;
      if (!happens.agentAlive) return end('lost');
      return state === 'given' && happens.sinceMs >= openMs ? end('lost') : null;
    default:
      return happens satisfies never;
  }
}
