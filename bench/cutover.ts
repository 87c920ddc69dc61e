/** Cutovers and reverts under 1,000 requests a second with 50 open WebSockets: what is lost or cut, and how long a revert takes to its first old answer. */
import { Pool } from 'undici';
import { WebSocket } from 'ws';
import { untilLive } from '../demo/seed.js';
import { findLimits } from '../src/agent/sandbox/host.js';
import { preferOwn } from '../src/agent/sandbox/limits.js';
import type { Deployment } from '../src/wire/environments/environments.js';
import { type Bench, type Figure, figure } from './harness.js';
import { benchProject } from './project.js';

const perSecond = 1_000;
const cutovers = 16;
const sockets = 50;

const server = (text: string) =>
  `const { createServer } = require('node:http');
const { createHash } = require('node:crypto');
const accept = (key) => createHash('sha1').update(key + '258EAFA5-E914-47DA-95CA-C5AB0DC85B11').digest('base64');
createServer((q, a) => a.end('${text}'))
  .on('upgrade', (q, socket) => {
    socket.on('error', () => {});
    socket.write('HTTP/1.1 101 Switching Protocols\\r\\nUpgrade: websocket\\r\\nConnection: Upgrade\\r\\nSec-WebSocket-Accept: ' + accept(q.headers['sec-websocket-key']) + '\\r\\n\\r\\n');
    setInterval(() => socket.write(Buffer.from([0x81, 1, 0x78])), 1000).unref();
  })
  .listen(process.env.PORT);
`;
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

  const host = 'steady-sums-production.localhost';
  // Visitors are elsewhere in life: what holds up the one that plays them is no part of the figure.
  preferOwn(findLimits(), 'bench', 'cutover');
  const open = await openSockets(house.edgePort, host);
  const load = startLoad(house.edgePort, host);
  const measured = () => ({ first: [] as number[], last: [] as number[] });
  // Two rounds are not counted: whatever is kept is there then.
  const [warmUp, later, atOnce] = [measured(), measured(), measured()];
  try {
    for (let round = -2; round < cutovers; round++) {
      await act({ kind: 'promote' });
      await untilLive(api, 'steady-sums/production', two);
      // What follows on a promotion is over in every second round; in the others it is taken back the moment that it is live.
      const into = round < 0 ? warmUp : round % 2 ? atOnce : later;
      if (into === later) await new Promise((resolve) => setTimeout(resolve, 1_500));
      load.expect('one');
      const began = performance.now();
      await act({ kind: 'revert', release: 1 });
      into.first.push((await load.seen()) - began);
      await untilLive(api, 'steady-sums/production', one);
      into.last.push(load.last('two') - began);
      await api.post('/api/projects/steady-sums/environments/production/lift');
    }
  } finally {
    await load.stop();
    open.close();
  }
  const { sent, lost } = load.counts();
  return [
    figure(`WebSockets cut of ${sockets} that were open all the time`, '', [open.cut()], [], {
      text: '0',
      met: (value) => value === 0,
    }),
    figure(`requests lost of ${sent} in ${(cutovers + 2) * 2} cutovers`, '', [lost], [], {
      text: '0',
      met: (value) => value === 0,
    }),
    figure('revert, API call to the first old answer', 'ms', later.first, [], {
      text: '≤ 250 ms',
      met: (value) => value <= 250,
    }),
    figure('revert, API call to the last new answer', 'ms', later.last, [], {
      text: '≤ 100 ms',
      met: (value) => value <= 100,
    }),
    figure('the same, the moment that a promotion is live', 'ms', atOnce.last, [], {
      text: '≤ 250 ms',
      met: (value) => value <= 250,
    }),
  ];
}

/** WebSockets that stay where they are, whatever is live by then: their server is warm. */
async function openSockets(port: number, host: string) {
  let cut = 0;
  let over = false;
  const all = await Promise.all(
    Array.from({ length: sockets }, () => {
      const socket = new WebSocket(`ws://127.0.0.1:${port}/`, { headers: { host } });
      socket.on('error', () => {});
      socket.on('close', () => {
        if (!over) cut++;
      });
      return new Promise<WebSocket>((resolve) => socket.once('open', () => resolve(socket)));
    }),
  );
  return {
    cut: () => cut,
    close() {
      over = true;
      for (const socket of all) socket.terminate();
    },
  };
}

function startLoad(port: number, host: string) {
  const pool = new Pool(`http://127.0.0.1:${port}`, { connections: 64, pipelining: 1 });
  let sent = 0;
  let lost = 0;
  let open = 0;
  let wanted: string | null = null;
  let found: ((at: number) => void) | null = null;
  const lastly = new Map<string, number>();
  const send = () => {
    sent++;
    open++;
    let [text, status] = ['', 0];
    const done = (good: boolean) => {
      open--;
      if (!good) lost++;
    };
    pool.dispatch(
      { path: '/', method: 'GET', headers: { host } },
      {
        onConnect: () => {},
        onHeaders: (code) => {
          status = code;
          return true;
        },
        onData: (chunk) => {
          text += chunk.toString();
          return true;
        },
        onComplete: () => {
          done(status === 200);
          lastly.set(text, performance.now());
          if (text === wanted) found?.(performance.now());
        },
        onError: () => done(false),
      },
    );
  };
  const began = performance.now();
  // What a late timer has missed is sent with it.
  const timer = setInterval(() => {
    while (sent < ((performance.now() - began) * perSecond) / 1_000) send();
  }, 1);
  return {
    expect(text: string) {
      wanted = text;
    },
    seen: () =>
      new Promise<number>((resolve) => {
        found = resolve;
      }),
    /** When it was answered last. */
    last: (text: string) => lastly.get(text) ?? Number.NaN,
    counts: () => ({ sent, lost }),
    async stop() {
      clearInterval(timer);
      while (open > 0) await new Promise((resolve) => setTimeout(resolve, 5));
      await pool.close();
    },
  };
}
