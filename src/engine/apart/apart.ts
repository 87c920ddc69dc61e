/**
 * Long computations away from the loop that answers people: in threads, each with a deadline, after which the thread is ended. One
 * project has one job at a time and a few that wait, so that it can't keep the others from theirs.
 */
import { existsSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { Worker } from 'node:worker_threads';
import { CodedError } from '../../core/errors/errors.js';
import { type JobInput, type JobName, type JobOutput, jobs } from './jobs.js';

export interface Apart {
  /**
   * Does a job for `whom` (a project, a stream). Throws `definition_slow` when it takes longer than it may, `busy` when too many of the
   * same wait.
   */
  run<Name extends JobName>(name: Name, whom: string, input: JobInput<Name>): Promise<JobOutput<Name>>;
  close(): Promise<void>;
}

/** Milliseconds that a job may take. */
const deadlines: Record<JobName, number> = { definition: 15_000, plan: 20_000, recognise: 20_000, search: 10_000 };
const words: Record<JobName, string> = {
  definition: 'the definition',
  plan: 'the files of the commit',
  recognise: 'the repository',
  search: 'the log',
};

const threadsAtMost = 2;
const waitingAtMost = 16;
/** Mebibytes of memory that a thread may take. */
const memory = 768;

/** Beside this file when built; the sources as they stand have none. */
const entry = fileURLToPath(new URL('./worker.js', import.meta.url));

interface Job {
  name: JobName;
  whom: string;
  input: unknown;
  resolve(output: never): void;
  reject(error: unknown): void;
}

export function openApart(): Apart {
  const threads = existsSync(entry);
  const waiting: Job[] = [];
  const running = new Map<Worker, Job>();
  const idle: Worker[] = [];
  let closed = false;

  const open = (): Worker => {
    const worker = new Worker(entry, { resourceLimits: { maxOldGenerationSizeMb: memory } });
    // One that is ended may fail once more, and an idle one may end: nobody waits for it.
    worker.on('error', () => {});
    worker.on('exit', () => {
      const at = idle.indexOf(worker);
      if (at >= 0) idle.splice(at, 1);
    });
    // It keeps nothing alive: whoever waits for an answer does.
    worker.unref();
    return worker;
  };
  const next = (): void => {
    if (closed) return;
    const whoms = new Set([...running.values()].map((job) => job.whom));
    while (running.size < threadsAtMost) {
      const at = waiting.findIndex((job) => !whoms.has(job.whom));
      if (at < 0) return;
      const [job] = waiting.splice(at, 1) as [Job];
      whoms.add(job.whom);
      begin(job, idle.pop() ?? open());
    }
  };
  const begin = (job: Job, worker: Worker): void => {
    running.set(worker, job);
    const slow = new CodedError('definition_slow', { what: words[job.name] });
    const over = (done: () => void, keep: boolean) => {
      if (running.get(worker) !== job) return;
      running.delete(worker);
      clearTimeout(timer);
      worker.off('message', answered).off('error', broken).off('exit', broken);
      if (keep && !closed) idle.push(worker);
      else void worker.terminate();
      done();
      next();
    };
    const timer = setTimeout(() => over(() => job.reject(slow), false), deadlines[job.name]);
    timer.unref();
    const answered = ({ output, error }: { output?: never; error?: string }) =>
      over(() => (error === undefined ? job.resolve(output as never) : job.reject(new Error(error))), true);
    // Out of memory, most likely: it was too much all the same.
    const broken = () => over(() => job.reject(slow), false);
    worker.on('message', answered).on('error', broken).on('exit', broken);
    worker.postMessage({ name: job.name, input: job.input });
  };
  return {
    run(name, whom, input) {
      if (!threads) return Promise.resolve().then(() => jobs[name](input as never) as never);
      if (waiting.filter((job) => job.whom === whom).length >= waitingAtMost)
        return Promise.reject(new CodedError('busy', { what: words[name] }));
      return new Promise((resolve, reject) => {
        waiting.push({ name, whom, input, resolve: resolve as never, reject });
        next();
      });
    },
    async close() {
      closed = true;
      for (const job of waiting.splice(0)) job.reject(new CodedError('unavailable', { detail: 'it ends.' }));
      await Promise.all([...idle.splice(0), ...running.keys()].map((worker) => worker.terminate()));
    },
  };
}
