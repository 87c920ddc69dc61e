/** What a mirror adds to the time of those who wait for an answer: p95 with copies beside p95 without, in turn, at 300 requests a second. */
import { Agent, request } from 'node:http';
import { until, untilLive } from '../demo/seed.js';
import type { Cutover } from '../src/wire/environments/cutover.js';
import type { Deployment } from '../src/wire/environments/environments.js';
import { type Bench, type Figure, figure } from './harness.js';
import { benchProject } from './project.js';

const [perSecond, seconds, rounds] = [300, 8, 4];
const server = (text: string) =>
  `const { createServer } = require('node:http');
createServer((q, a) => setTimeout(() => a.end('${text}'), 5)).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, start: node server.js, instances: 2 } }
environments: { staging: { branch: main }, production: { after: staging, cutover: [mirror for 1h] } }
`;
const host = 'two-mirrors-production.localhost';

export async function mirror({ house, ...bench }: Bench): Promise<Figure[]> {
  const { api } = bench;
  const project = await benchProject({ house, ...bench }, 'two-mirrors');
  const place = '/api/projects/two-mirrors/environments/production';
  const promote = (release: number) => api.post<Deployment>(`${place}/deployments`, { kind: 'promote', release });
  const one = await project.push({ 'server.js': server('one'), 'tsunagi.yaml': definition });
  await untilLive(api, 'two-mirrors/staging', one);
  await promote(1);
  await untilLive(api, 'two-mirrors/production', one);
  await untilLive(api, 'two-mirrors/staging', await project.push({ 'server.js': server('two') }));
  const [values, bases, copied]: [number[], number[], number[]] = [[], [], []];
  await p95(house.edgePort, 3);
  for (let round = 0; round < rounds; round++) {
    bases.push(await p95(house.edgePort, seconds));
    const { number } = await promote(2);
    await until(
      async () => (await api.get<Cutover>(`${place}/cutover`).catch(() => null))?.step === 0 || null,
      'a mirror',
    );
    // Its first slice is without copies.
    await p95(house.edgePort, 6);
    values.push(await p95(house.edgePort, seconds));
    copied.push((await api.get<Cutover>(`${place}/cutover`)).mirrored?.compared ?? 0);
    await api.post(`${place}/cutover`, { order: 'back' });
    await until(
      async () =>
        (await api.get<Deployment>(`/api/projects/two-mirrors/deployments/${number}`)).state === 'failed' || null,
      'it is back',
    );
  }
  return [
    figure('p95 with a mirror', 'ms', values, bases, {
      text: '≤ 1.05 ×',
      met: (_value, ratio) => ratio !== null && ratio <= 1.05,
    }),
    figure('copies compared in a round', '', copied, [], { text: '> 500', met: (value) => value > 500 }),
  ];
}

/** Milliseconds within which 95 of 100 are answered, at a steady pace. */
async function p95(port: number, length: number): Promise<number> {
  const agent = new Agent({ keepAlive: true, maxSockets: 32 });
  const times: number[] = [];
  let [sent, open] = [0, 0];
  const began = performance.now();
  const send = () => {
    sent++;
    open++;
    const at = performance.now();
    const done = () => {
      open--;
      times.push(performance.now() - at);
    };
    const call = request({ host: '127.0.0.1', port, path: '/', agent, headers: { host } }, (answer) => {
      answer.resume();
      answer.on('end', done);
    });
    call.on('error', done);
    call.end();
  };
  while (performance.now() - began < length * 1_000) {
    while (sent < ((performance.now() - began) * perSecond) / 1_000) send();
    await new Promise((resolve) => setTimeout(resolve, 1));
  }
  while (open > 0) await new Promise((resolve) => setTimeout(resolve, 5));
  agent.destroy();
  times.sort((a, b) => a - b);
  return times[Math.floor(times.length * 0.95)] ?? Number.NaN;
}
