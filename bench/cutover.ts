/** Cutovers and reverts under 200 requests a second: what is lost, and how long a revert takes to its first old answer. */
import { Agent, request } from 'node:http';
import { until, untilLive } from '../demo/seed.js';
import type { Deployment } from '../src/wire/environments/environments.js';
import { type Bench, type Figure, figure } from './harness.js';
import { benchProject } from './project.js';

const perSecond = 200;
const cutovers = 6;

const server = (text: string) =>
  `const { createServer } = require('node:http');\ncreateServer((q, a) => a.end('${text}')).listen(process.env.PORT);\n`;
const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, start: node server.js, instances: 2 } }
environments: { staging: { branch: main }, production: { after: staging } }
`;

export async function cutover(bench: Bench): Promise<Figure[]> {
  const { api, house } = bench;
  const project = await benchProject(bench, 'steady-sums');
  const place = '/api/projects/steady-sums/environments/production/deployments';
  const act = (body: object) => api.post<Deployment>(place, body);
  const one = await project.push({ 'server.js': server('one'), 'tsunagi.yaml': definition });
  await untilLive(api, 'steady-sums/staging', one);
  await act({ kind: 'promote' });
  await untilLive(api, 'steady-sums/production', one);
  const two = await project.push({ 'server.js': server('two') });
  await untilLive(api, 'steady-sums/staging', two);

  const load = startLoad(house.edgePort, 'steady-sums-production.localhost');
  const reverts: number[] = [];
  try {
    for (let round = 0; round < cutovers; round++) {
      await act({ kind: 'promote' });
      await untilLive(api, 'steady-sums/production', two);
      load.expect('one');
      const began = performance.now();
      await act({ kind: 'revert', release: 1 });
      reverts.push((await load.seen()) - began);
      await untilLive(api, 'steady-sums/production', one);
      await api.post('/api/projects/steady-sums/environments/production/lift');
      await until(async () => true, 'a pause');
    }
  } finally {
    await load.stop();
  }
  const { sent, lost } = load.counts();
  return [
    figure(`requests lost of ${sent} in ${cutovers * 2} cutovers`, '', [lost], [], {
      text: '0',
      met: (value) => value === 0,
    }),
    figure('revert, API call to the first old answer', 'ms', reverts, [], {
      text: '≤ 250 ms',
      met: (value) => value <= 250,
    }),
  ];
}

function startLoad(port: number, host: string) {
  const agent = new Agent({ keepAlive: true, maxSockets: 64 });
  let sent = 0;
  let lost = 0;
  let open = 0;
  let wanted: string | null = null;
  let found: ((at: number) => void) | null = null;
  const send = () => {
    sent++;
    open++;
    const done = (good: boolean) => {
      open--;
      if (!good) lost++;
    };
    const call = request({ host: '127.0.0.1', port, path: '/', agent, headers: { host } }, (answer) => {
      let text = '';
      answer.on('data', (chunk: Buffer) => {
        text += chunk.toString();
      });
      answer.on('end', () => {
        done(answer.statusCode === 200);
        if (text === wanted) found?.(performance.now());
      });
      answer.on('error', () => done(false));
    });
    call.on('error', () => done(false));
    call.end();
  };
  const timer = setInterval(send, 1000 / perSecond);
  return {
    expect(text: string) {
      wanted = text;
    },
    seen: () =>
      new Promise<number>((resolve) => {
        found = resolve;
      }),
    counts: () => ({ sent, lost }),
    async stop() {
      clearInterval(timer);
      while (open > 0) await new Promise((resolve) => setTimeout(resolve, 5));
      agent.destroy();
    },
  };
}
