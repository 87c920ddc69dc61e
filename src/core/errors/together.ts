/** Deployments that go together or not at all. */
import { entry } from './entry.js';

export const ofTogether = {
  together_few: entry(
    400,
    'Two to ten different projects go together, not {count}.',
    'Name each once; one alone goes with `tsunagi promote --to PROJECT/ENVIRONMENT`.',
  ),
  together_busy: entry(
    409,
    'Another deployment of {environment} is on its way.',
    'Wait until it has ended, or end it with `tsunagi revert {environment}`; then ask again.',
  ),
  together_gone: entry(
    409,
    '{environment} is not there any more.',
    'What was live in the others has all of their traffic. Promote them without it.',
  ),
  together_failed: entry(
    409,
    '{environment} could not go with the others: {why}',
    'What was live has all of the traffic, in each of them. Mend that one, then promote them together again.',
  ),
  together_left: entry(
    409,
    'The deployment of {environment} is {state} by now: it does not go with the others.',
    'What was live has all of the traffic, in each of them. Promote them together again.',
  ),
  together_late: entry(
    409,
    'The others have waited for an hour for {environments}.',
    'Look at what keeps it with `tsunagi environment show`, then promote them together again.',
  ),
  together_back: entry(
    409,
    '{who} has taken all of them back.',
    'What was live before has the traffic. Promote again when it is mended.',
  ),
  together_worse: entry(
    409,
    '{environment} took all of them back: {why}',
    'What was live before has the traffic, and each environment is on hold. Mend it, then lift the holds.',
  ),
  together_ended: entry(
    409,
    'It was to go with others (j{number}), and none went: {why}',
    'Mend that, then promote them together again.',
  ),
  together_over: entry(
    409,
    'j{number} is {state}: there is nothing to take back.',
    '`tsunagi revert PROJECT/ENVIRONMENT` takes one environment back.',
  ),
} as const;
