/** Reviews: how long who comes to one that sleeps waits, beside one that is awake and beside its program's own start. */
import { mkdtempSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { join } from 'node:path';
import type { Environment } from '../src/wire/environments/environments.js';
import { until } from '../demo/seed.js';
import { type Bench, type Figure, figure, median, timed } from './harness.js';
import { ownStart } from './live.js';
import { benchProject } from './project.js';

const rounds = 15;
/** Below the ports of instances. */
const ownPort = 19_500;

const server = `import { createServer } from 'node:http';
createServer((request, response) => response.end('here')).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, start: node server.js, ready: / } }
environments:
  review: { for: pull requests, idle: { sleep: never, end: 1s } }
`;

export async function reviews(bench: Bench): Promise<Figure[]> {
  const project = await benchProject(bench, 'dormouse');
  const files = { 'package.json': '{ "type": "module" }\n', 'server.js': server };
  await project.push({ ...files, 'tsunagi.yaml': definition });
  await until(async () => {
    const { items } = await bench.api.get<{ items: unknown[] }>('/api/projects/dormouse/releases');
    return items.length > 0 ? true : null;
  }, 'the definition counts');
  await project.push({ 'branch.txt': 'winter\n' }, 'winter');
  const { name } = await bench.api.post<Environment>('/api/projects/dormouse/reviews', { branch: 'winter' });
  const path = `/api/projects/dormouse/environments/${name}`;
  const seen = () => bench.api.get<Environment>(path);
  await until(async () => ((await seen()).live ? true : null), 'the review is live');
  const folder = mkdtempSync(join(bench.folder, 'own-'));
  for (const [file, text] of Object.entries(files)) writeFileSync(join(folder, file), text);
  const ask = () => answer(bench.house.edgePort, `${name}-dormouse.review.localhost`);
  const [warm, frozen, ended, own]: [number[], number[], number[], number[]] = [[], [], [], []];
  for (let round = 0; round <= rounds; round++) {
    const one = async (into: number[], depth: 'frozen' | 'ended') => {
      await bench.api.post(`${path}/sleep`);
      await until(async () => {
        const { state, review } = await seen();
        return state === 'asleep' && review?.depth === depth ? true : null;
      }, `it sleeps, ${depth}`);
      // What was told of that is over, on every side.
      await new Promise((resolve) => setTimeout(resolve, 150));
      const took = await timed(ask);
      if (round > 0) into.push(took);
      await ask();
      const after = await timed(ask);
      if (round > 0) warm.push(after);
    };
    await one(frozen, 'frozen');
    await one(ended, 'ended');
    const alone = await ownStart(folder, ownPort + round);
    if (round > 0) own.push(alone);
  }
  const base = median(warm);
  return [
    figure('a frozen review answers', 'ms', frozen, warm, {
      text: '≤ 15 ms above one that is awake',
      met: (value) => value - base <= 15,
    }),
    figure(
      'a review whose programs had ended answers',
      'ms',
      ended,
      own.map((one) => one + base),
      { text: '≤ 80 ms above its program’s own start', met: (value, ratio) => value - value / (ratio ?? 1) <= 80 },
    ),
  ];
}

function answer(port: number, host: string): Promise<void> {
  return new Promise((resolve, reject) => {
    const call = request(
      { host: '127.0.0.1', port, headers: { host: `${host}:${port}` }, agent: false },
      (incoming) => {
        incoming.resume();
        incoming.on('end', () =>
          incoming.statusCode === 200 ? resolve() : reject(new Error(`it answered ${incoming.statusCode}`)),
        );
      },
    );
    call.on('error', reject);
    call.end();
  });
}
