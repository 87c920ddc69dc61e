/** What a reader waits for: the first line of a push's log; and what a thousand runs that wait do to the service. */
import { parseEvents } from '../src/cli/api.js';
import type { Event } from '../src/wire/overview.js';
import type { LogChunk } from '../src/wire/logs.js';
import type { PageOf } from '../src/wire/parts.js';
import type { Run, RunDetail } from '../src/wire/runs.js';
import { type Bench, type Figure, figure, timed } from './harness.js';
import { benchProject } from './project.js';

const rounds = 7;
const queued = 1_000;
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

/** Server-sent events of a path until `take` answers true. */
async function stream(
  { house }: Bench,
  path: string,
  begun: () => void,
  take: (event: string, data: never) => boolean,
): Promise<void> {
  const abort = new AbortController();
  const answer = await fetch(house.url + path, {
    headers: { authorization: `Bearer ${house.token}` },
    signal: abort.signal,
  });
  for await (const one of parseEvents(answer.body as unknown as AsyncIterable<Uint8Array>)) {
    begun();
    if (take(one.event, JSON.parse(one.data) as never)) break;
  }
  abort.abort();
}

/** A reader who has the live feed open, sees an attempt begin, and opens its log: as the run page does. */
export async function firstLine(bench: Bench): Promise<Figure[]> {
  const project = await benchProject(bench, 'line');
  const values: number[] = [];
  for (let round = 0; round <= rounds; round++) {
    let task = '';
    let open = () => {};
    const ready = new Promise<void>((resolve) => {
      open = resolve;
    });
    const started = stream(bench, '/api/feed?project=line', open, (kind, data: Event) => {
      if (kind !== 'event' || data.type !== 'dev.tsunagi.attempt.started') return false;
      task = data.subject.replace('run ', '');
      return true;
    });
    await ready;
    await project.push({
      'a.txt': String(round),
      'tsunagi.yaml': "tsunagi: 1\ntasks:\n  tell: { reads: [a.txt], run: 'echo first; sleep 0.5' }\n",
    });
    const pushed = performance.now();
    await started;
    const run = await bench.api.get<RunDetail>(`/api/projects/line/runs/${task}`);
    let shown = 0;
    await stream(
      bench,
      `/api/attempts/${run.taskList[0]?.attempts[0]?.id}/log?follow=true`,
      () => {},
      (_, data: LogChunk) => {
        if (!data.text?.includes('first')) return false;
        shown = performance.now();
        return true;
      },
    );
    if (round > 0) values.push(shown - pushed);
    await pause(900);
  }
  return [
    figure('push’s end to the first log line at a reader', 'ms', values, [], {
      text: '≤ 150 ms',
      met: (value) => value <= 150,
    }),
  ];
}

/** Runs of one task, all recorded while the agent is busy, then let go. */
export async function queue(bench: Bench): Promise<Figure[]> {
  const { api } = bench;
  const busy = await benchProject(bench, 'busy');
  await busy.push({ 'a.txt': '', 'tsunagi.yaml': 'tsunagi: 1\ntasks:\n  hold: { shards: 2, run: sleep 120 }\n' });
  const project = await benchProject(bench, 'queue');
  await project.push({
    'a.txt': '',
    'tsunagi.yaml': "tsunagi: 1\ntasks:\n  one: { reuse: false, reads: [a.txt], run: 'true' }\n",
  });
  const record = await timed(async () => {
    for (let from = 1; from < queued; from += 20)
      await Promise.all(
        Array.from({ length: Math.min(20, queued - from) }, () =>
          api.post('/api/projects/queue/runs', { ref: 'main' }),
        ),
      );
  });
  const list = async () => timed(() => api.get('/api/runs?project=queue&limit=50'));
  const lists: number[] = [];
  for (let round = 0; round < 9; round++) lists.push(await list());
  const { items } = await api.get<PageOf<Run>>('/api/runs?project=busy');
  await api.post(`/api/projects/busy/runs/${items[0]?.number}/stop`);
  const drain = await timed(async () => {
    while ((await api.get<Run>(`/api/projects/queue/runs/${queued}`)).endedAt === null) await pause(250);
  });
  return [
    figure(`recording runs, ${queued} of them`, '/s', [queued / (record / 1000)], [], {
      text: '≥ 100 /s',
      met: (value) => value >= 100,
    }),
    figure(`a list of runs with ${queued} queued`, 'ms', lists, [], { text: '≤ 50 ms', met: (value) => value <= 50 }),
    figure(`${queued} queued runs of one task, ended`, '/s', [queued / (drain / 1000)], [], {
      text: '≥ 10 /s',
      met: (value) => value >= 10,
    }),
  ];
}
