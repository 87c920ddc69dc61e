/**
 * What a mirror adds to the time of those who wait for an answer, at 300 requests a second: p95 of an environment whose requests are
 * copied beside that of one with the same release and no copies, in turns of a second. Nothing begins or ends between the turns, so
 * what the machine does besides meets both alike.
 */
import { Agent, request } from 'node:http';
import { until, untilLive } from '../demo/seed.js';
import type { Cutover } from '../src/wire/environments/cutover.js';
import type { Deployment } from '../src/wire/environments/environments.js';
import { type Bench, type Figure, figure } from './harness.js';
import { benchProject } from './project.js';

const [perSecond, seconds, rounds] = [300, 1, 100];
const server = (text: string) =>
  `const { createServer } = require('node:http');
createServer((q, a) => setTimeout(() => a.end('${text}'), 5)).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, start: node server.js, instances: 2 } }
environments: { staging: { branch: main }, alone: { after: staging }, production: { after: staging, cutover: [mirror for 1h] } }
`;
const host = (environment: string) => `two-mirrors-${environment}.localhost`;

export async function mirror({ house, ...bench }: Bench): Promise<Figure[]> {
  const { api } = bench;
  const project = await benchProject({ house, ...bench }, 'two-mirrors');
  const place = (environment: string) => `/api/projects/two-mirrors/environments/${environment}`;
  const promote = (environment: string, release: number) =>
    api.post<Deployment>(`${place(environment)}/deployments`, { kind: 'promote', release });
  const cutover = () => api.get<Cutover>(`${place('production')}/cutover`);
  const one = await project.push({ 'server.js': server('one'), 'tsunagi.yaml': definition });
  await untilLive(api, 'two-mirrors/staging', one);
  for (const environment of ['alone', 'production']) {
    await promote(environment, 1);
    await untilLive(api, `two-mirrors/${environment}`, one);
  }
  await untilLive(api, 'two-mirrors/staging', await project.push({ 'server.js': server('two') }));
  const { number } = await promote('production', 2);
  await until(async () => (await cutover().catch(() => null))?.step === 0 || null, 'a mirror');
  const [values, bases]: [number[], number[]] = [[], []];
  const without = () => p95(house.edgePort, host('alone'), seconds);
  const copies = () => p95(house.edgePort, host('production'), seconds);
  // The first slice of a mirror is without copies.
  for (let turn = 0; turn < 8; turn++) {
    await without();
    await copies();
  }
  const before = (await cutover()).mirrored?.compared ?? 0;
  for (let round = 0; round < rounds; round++) {
    // Each comes first in every second round.
    if (round % 2) bases.push(await without());
    values.push(await copies());
    if (!(round % 2)) bases.push(await without());
  }
  const copied = ((await cutover()).mirrored?.compared ?? 0) - before;
  const ratios = values.map((value, round) => value / (bases[round] ?? Number.NaN));
  await api.post(`${place('production')}/cutover`, { order: 'back' });
  // What comes after this is measured alone.
  await until(
    async () => (await api.get<Deployment>(`/api/projects/two-mirrors/deployments/${number}`)).state === 'failed',
    'it is back',
  );
  return [
    figure('p95 with a mirror', 'ms', values, bases, {
      text: '≤ 1.05 ×',
      met: (_value, ratio) => ratio !== null && ratio <= 1.05,
    }),
    figure('the same, each round against its own', '×', ratios, [], { text: '≤ 1.05', met: (value) => value <= 1.05 }),
    figure('copies compared, of 100 requests', '', [(copied * 100) / (perSecond * seconds * rounds)], [], {
      text: '> 80',
      met: (value) => value > 80,
    }),
  ];
}

/** Milliseconds within which 95 of 100 are answered, at a steady pace. */
async function p95(port: number, host: string, length: number): Promise<number> {
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
