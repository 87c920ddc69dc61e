/** The engine on its way: the same commit again, planning, the first instruction, a log, a large output. */
import type { Event } from '../src/wire/overview.js';
import type { PageOf } from '../src/wire/parts.js';
import type { Run, RunDetail } from '../src/wire/runs.js';
import { untilRun } from '../demo/seed.js';
import { type Bench, type Figure, figure, timed } from './harness.js';
import { type BenchProject, benchProject } from './project.js';

const rounds = 7;
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));
const ms = (from: string, to: string): number => Date.parse(to) - Date.parse(from);

async function runOf({ api }: Bench, project: BenchProject, commit: string, wait: number): Promise<RunDetail> {
  // Asking costs the service time: nothing is asked while it works.
  await pause(wait);
  const run = await untilRun(api, project.name, commit);
  if (run.state !== 'passed') throw new Error(`run ${run.number} of ${project.name} ${run.state}`);
  return api.get<RunDetail>(`/api/projects/${project.name}/runs/${run.number}`);
}

async function again({ api }: Bench, project: string): Promise<RunDetail> {
  const { number } = await api.post<Run>(`/api/projects/${project}/runs`, { ref: 'main' });
  await pause(600);
  for (;;) {
    const run = await api.get<RunDetail>(`/api/projects/${project}/runs/${number}`);
    if (run.endedAt) return run;
    await pause(100);
  }
}

export async function reuse(bench: Bench): Promise<Figure[]> {
  const project = await benchProject(bench, 'reuse');
  const names = Array.from({ length: 8 }, (_, at) => `t${at}`);
  const definition = `tsunagi: 1\ntasks:\n${names.map((name, at) => `  ${name}: { needs: [${at < 3 ? '' : names[at - 3]}], reads: [a.txt], run: 'true' }\n`).join('')}`;
  await runOf(bench, project, await project.push({ 'a.txt': '1', 'tsunagi.yaml': definition }), 1_500);
  const values: number[] = [];
  for (let round = 0; round <= rounds; round++) {
    const run = await again(bench, 'reuse');
    if (run.taskList.some((task) => task.state !== 'reused')) throw new Error('a task was not reused');
    if (round > 0) values.push(ms(run.createdAt, run.endedAt as string));
  }
  return [
    figure('same commit again, recorded to passed, 8 tasks', 'ms', values, [], {
      text: '≤ 100 ms',
      met: (value) => value <= 100,
    }),
  ];
}

export async function planning(bench: Bench): Promise<Figure[]> {
  const project = await benchProject(bench, 'planning');
  const files = Object.fromEntries(
    Array.from({ length: 5_000 }, (_, at) => [`src/part${at % 50}/file${at}.txt`, `${at}\n`]),
  );
  const tasks = Array.from(
    { length: 20 },
    (_, at) => `  t${at}: { reads: [src/part${at}/, src/part${at + 20}/], run: 'true' }\n`,
  ).join('');
  await runOf(bench, project, await project.push({ ...files, 'tsunagi.yaml': `tsunagi: 1\ntasks:\n${tasks}` }), 6_000);
  const values: number[] = [];
  for (let round = 0; round <= rounds; round++) {
    const run = await runOf(bench, project, await project.push({ 'src/part49/file49.txt': `changed ${round}\n` }), 800);
    if (round > 0) values.push(ms(run.createdAt, run.startedAt as string));
  }
  return [
    figure('planning 5,000 files with 20 tasks, recorded to planned', 'ms', values, [], {
      text: '≤ 30 ms',
      met: (value) => value <= 30,
    }),
  ];
}

export async function start(bench: Bench): Promise<Figure[]> {
  const project = await benchProject(bench, 'start');
  const definition = `tsunagi: 1
tasks:
  make: { reads: [make.txt], run: 'mkdir out; cd out; for d in $(seq 100); do mkdir $d; for f in $(seq 200); do : > $d/$f; done; done', makes: [out/] }
  use: { needs: [make], reads: [a.txt], run: 'date +%s%N' }
  tell: { reads: [a.txt], run: 'date +%s%N' }
`;
  await runOf(bench, project, await project.push({ 'make.txt': '1', 'a.txt': '0', 'tsunagi.yaml': definition }), 9_000);
  const own: number[] = [];
  const large: number[] = [];
  const line: number[] = [];
  for (let round = 0; round <= rounds; round++) {
    const commit = await project.push({ 'a.txt': `round ${round}` });
    const pushed = Date.now();
    const run = await runOf(bench, project, commit, 700);
    const { items } = await bench.api.get<PageOf<Event>>(
      `/api/events?project=start&subject=run%20${run.number}&limit=100`,
    );
    const instruction = async (task: string): Promise<number> => {
      const attempt = run.taskList.find((one) => one.name === task)?.attempts[0]?.id;
      const log = await bench.api.get<PageOf<{ text: string }>>(`/api/attempts/${attempt}/log`);
      return Number(log.items[0]?.text.trim()) / 1e6;
    };
    const ready = (task: string) =>
      Date.parse(items.find((one) => one.type === 'dev.tsunagi.task.ready' && one.data.task === task)?.time as string);
    if (round === 0) continue;
    own.push((await instruction('tell')) - ready('tell'));
    large.push((await instruction('use')) - ready('use'));
    line.push((await instruction('tell')) - pushed);
  }
  return [
    figure('ready to first instruction, two tasks at once', 'ms', own, [], {
      text: '≤ 20 ms',
      met: (value) => value <= 20,
    }),
    figure('the same with a needed output of 20,000 files', 'ms', large, [], {
      text: '≤ 30 ms',
      met: (value) => value <= 30,
    }),
    figure('push’s end to first instruction', 'ms', line, [], { text: '≤ 150 ms', met: (value) => value <= 150 }),
  ];
}

export async function log(bench: Bench): Promise<Figure[]> {
  const project = await benchProject(bench, 'log');
  const lines = 600_000;
  const values: number[] = [];
  const bases: number[] = [];
  for (let round = 0; round < 3; round++) {
    const text = 'a line of a log that is about as long as lines are';
    const definition = `tsunagi: 1\ntasks:\n  print: { reads: [a.txt], run: "awk 'BEGIN { for (n = 0; n < ${lines}; n++) print \\"${text}\\" }'" }\n`;
    const run = await runOf(
      bench,
      project,
      await project.push({ 'a.txt': String(round), 'tsunagi.yaml': definition }),
      4_000,
    );
    const [attempt] = run.taskList[0]?.attempts ?? [];
    if (attempt?.logLines !== lines) throw new Error(`${attempt?.logLines} lines were kept`);
    const kept = ms(attempt.startedAt as string, attempt.endedAt as string) / 1000;
    const read = await timed(async () => {
      const answer = await fetch(`${bench.house.url}/api/attempts/${attempt.id}/log/text`, {
        headers: { authorization: `Bearer ${bench.house.token}` },
      });
      await answer.arrayBuffer();
    });
    values.push(lines / kept);
    bases.push(lines / (read / 1000));
  }
  return [
    figure('log intake, claimed to kept', 'l/s', values, [], {
      text: '≥ 100,000 l/s',
      met: (value) => value >= 100_000,
    }),
    figure('the same log read whole', 'l/s', bases, [], { text: '≥ 100,000 l/s', met: (value) => value >= 100_000 }),
  ];
}
