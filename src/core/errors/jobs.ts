/** What is said of jobs. */
import { entry, type ErrorEntry } from './entry.js';

export const ofJobs = {
  job_unknown: entry(
    404,
    '{environment} has no job {name}.',
    '`tsunagi job list {environment}` shows what what is live has.',
  ),
  job_runs: entry(
    409,
    '{name} runs in {environment} already; never two at once.',
    'Wait until it has ended, or stop it: `tsunagi job stop {environment} {name}`.',
    true,
  ),
  job_idle: entry(409, '{name} does not run in {environment}.', 'Nothing needs to be done.'),
} as const satisfies Record<string, ErrorEntry>;
