/** A thread that does one job after another (jobs.ts). */
import { parentPort } from 'node:worker_threads';
import { type JobName, jobs } from './jobs.js';

parentPort?.on('message', ({ name, input }: { name: JobName; input: never }) => {
  try {
    parentPort?.postMessage({ output: jobs[name](input) });
  } catch (error) {
    parentPort?.postMessage({ error: String((error as Error).message ?? error) });
  }
});
