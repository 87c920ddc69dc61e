/** What is said of terminals in environments. */
import { entry, type ErrorEntry } from './entry.js';

export const ofTerminals = {
  terminal_empty: entry(
    409,
    'Nothing is live in {environment}: there is no release to look inside.',
    'Deploy one first: `tsunagi deploy RELEASE --to {environment}`.',
  ),
  terminal_part: entry(422, '{environment} runs no part {name}.', 'Name one of these: {names}.'),
  terminal_instance: entry(
    422,
    '{environment} has no instance {name} that is ready.',
    'These are: {names}. Without `--in` it runs in a sandbox of its own.',
  ),
  terminal_old: entry(
    409,
    '{name} was started by an agent of before, which lets nobody in beside it.',
    'Start it anew, without losing a request: `tsunagi restart {environment}`.',
  ),
  terminal_ticket: entry(
    409,
    'The ticket of this terminal is used up, or older than half a minute.',
    'Ask for another terminal.',
  ),
  terminal_gone: entry(404, 'This terminal has ended.', 'Ask for another one.'),
  terminal_many: entry(
    429,
    '{who} has {count} terminals open already.',
    'End one of them: `tsunagi shell ENV --list` shows those of an environment.',
    true,
  ),
  terminal_needed: entry(
    422,
    'A shell needs a terminal on both sides.',
    'Run one command instead: `tsunagi exec {environment} -- COMMAND`.',
  ),
  terminal_nobody: entry(
    503,
    'No agent has taken the terminal within {seconds} seconds.',
    '`tsunagi agent list` shows whether one that takes `live` is there and has room.',
    true,
  ),
  terminal_over: entry(200, 'The terminal was ended: {why}.', 'Ask for another one.', true),
} as const satisfies Record<string, ErrorEntry>;
