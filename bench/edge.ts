/**
 * The edge beside nginx, on the same core, before the same instance reached the same way: an nginx inside a sandbox, which is not the
 * bottleneck. Needs nginx and wrk, which nothing else here does; without them it says so and measures nothing.
 */
import { type ChildProcess, spawn, spawnSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { Agent, request } from 'node:http';
import { join } from 'node:path';
import { until } from '../demo/seed.js';
import type { EnvironmentDetail } from '../src/wire/environments/environments.js';
import { type Bench, type Figure, figure, median } from './harness.js';
import { benchProject } from './project.js';

const rounds = 5;
const seconds = 3;
const connections = 32;
const host = 'quay-staging.localhost';
/** The edge and what it is compared with have one core, who asks and who answers the other. */
const cores = { proxy: '0', rest: '1' };

const has = (tool: string): boolean => spawnSync('sh', ['-c', `command -v ${tool}`]).status === 0;

const conf = (listen: string, location: string) => `worker_processes 1;
error_log stderr error;
pid PLACE/nginx.pid;
events { worker_connections 1024; }
http {
  access_log off;
  ${['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'].map((one) => `${one}_temp_path PLACE/${one};`).join(' ')}
  keepalive_requests 1000000;
  ${location.includes('upstream') ? 'upstream program { server 127.0.0.1:UPSTREAM; keepalive 64; }' : ''}
  server { listen ${listen}; location / { ${location} } }
}
`;

export async function edge(bench: Bench): Promise<Figure[]> {
  const missing = ['nginx', 'wrk', 'taskset'].filter((tool) => !has(tool));
  if (missing.length) {
    process.stderr.write(`The edge is not measured: ${missing.join(', ')} missing.\n`);
    return [];
  }
  const project = await benchProject(bench, 'quay');
  await project.push({
    'nginx.conf': conf('LISTEN', 'return 200 "a boat at the quay\\n";'),
    'tsunagi.yaml': `tsunagi: 1
release:
  parts: { api: { kind: server, start: "sed -e s/LISTEN/$PORT/ -e s:PLACE:/tmp:g nginx.conf >/tmp/conf && exec /usr/sbin/nginx -c /tmp/conf -p /tmp -g 'daemon off;'" } }
environments: { staging: { branch: main } }
`,
  });
  const live = await until(async () => {
    const one = await bench.api.get<EnvironmentDetail>('/api/projects/quay/environments/staging').catch(() => null);
    return one?.live ? one : null;
  }, 'quay is live');
  const port = live.instanceList.find((one) => one.state === 'ready')?.port ?? 0;
  const beside = bench.house.edgePort + 60;
  const file = join(bench.folder, 'nginx.conf');
  const through =
    'proxy_pass http://program; proxy_http_version 1.1; proxy_set_header Connection ""; proxy_set_header Host $host; proxy_set_header X-Forwarded-For $remote_addr; # upstream';
  writeFileSync(
    file,
    conf(`127.0.0.1:${beside}`, through)
      .replace('# upstream', '\n')
      .replaceAll('PLACE', bench.folder)
      .replace('UPSTREAM', String(port)),
  );
  const nginx = spawn('taskset', ['-c', cores.proxy, 'nginx', '-c', file, '-p', bench.folder, '-g', 'daemon off;'], {
    stdio: 'ignore',
  });
  const pid = bench.house.rooms.edge.pid() ?? 0;
  spawnSync('taskset', ['-apc', cores.proxy, String(pid)]);
  try {
    await until(async () => (await oneAnswer(beside)) === 200, 'nginx answers');
    const own = bench.house.edgePort;
    const [values, bases]: [number[], number[]] = [[], []];
    await rate(own);
    await rate(beside);
    for (let round = 0; round < rounds; round++) {
      values.push(await rate(own));
      bases.push(await rate(beside));
    }
    const [late, lateBases]: [number[], number[]] = [[], []];
    for (let round = 0; round < rounds; round++) {
      late.push(await slowest(own));
      lateBases.push(await slowest(beside));
    }
    const before = memoryOf(pid);
    let asked = 0;
    while (asked < 1_000_000) asked += (await rate(own, 10)) * 10;
    return [
      figure('edge, requests a second on one core', '/s', values, bases, {
        text: '≥ 0.25 of nginx',
        met: (_, ratio) => (ratio ?? 0) >= 0.25,
      }),
      figure('edge, p99 at 1,000 requests a second', 'ms', late, lateBases, {
        text: '≤ 2 × nginx',
        met: (_, ratio) => (ratio ?? Number.POSITIVE_INFINITY) <= 2,
      }),
      figure('edge, memory grown over 1,000,000 requests', 'MB', [memoryOf(pid) - before], [], {
        text: '≤ 20 MB',
        met: (value) => value <= 20,
      }),
    ];
  } finally {
    await ended(nginx);
    spawnSync('taskset', ['-apc', `${cores.proxy},${cores.rest}`, String(pid)]);
  }
}

const ended = (child: ChildProcess): Promise<unknown> => {
  child.kill('SIGTERM');
  return new Promise((resolve) => child.once('close', resolve));
};

/** Resident memory of a process in MB. */
const memoryOf = (pid: number): number =>
  Number(/^VmRSS:\s+(\d+) kB$/m.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))?.[1] ?? 0) / 1024;

const oneAnswer = (port: number): Promise<number | null> =>
  new Promise((resolve) => {
    request({ host: '127.0.0.1', port, path: '/', headers: { host } }, (answer) => {
      answer.resume().once('end', () => resolve(answer.statusCode ?? 0));
    })
      .once('error', () => resolve(null))
      .end();
  });

/** Requests a second that wrk gets answered. */
function rate(port: number, forSeconds = seconds): Promise<number> {
  const words = ['-c', cores.rest, 'wrk', '-t1', `-c${connections}`, `-d${forSeconds}s`, '-H', `Host: ${host}`];
  return new Promise((resolve, reject) => {
    const child = spawn('taskset', [...words, `http://127.0.0.1:${port}/`], { stdio: ['ignore', 'pipe', 'ignore'] });
    let text = '';
    child.stdout.on('data', (bytes: Buffer) => (text += bytes));
    child.on('close', () => {
      const found = /Requests\/sec:\s+([\d.]+)/.exec(text)?.[1];
      if (found === undefined || /Non-2xx/.test(text)) reject(new Error(`wrk: ${text}`));
      else resolve(Number(found));
    });
  });
}

/** The time within which 99 of 100 are answered, of requests that come 1,000 a second whatever the answers do. */
async function slowest(port: number): Promise<number> {
  const agent = new Agent({ keepAlive: true, maxSockets: 128 });
  const times: number[] = [];
  const began = performance.now();
  let sent = 0;
  const waiting: Promise<void>[] = [];
  while (performance.now() - began < seconds * 1_000) {
    for (const due = performance.now() - began; sent < due; sent++) {
      const from = performance.now();
      waiting.push(
        new Promise((resolve, reject) => {
          request({ host: '127.0.0.1', port, path: '/', agent, headers: { host } }, (answer) => {
            answer.resume().once('end', () => {
              times.push(performance.now() - from);
              resolve();
            });
          })
            .once('error', reject)
            .end();
        }),
      );
    }
    await new Promise((resolve) => setImmediate(resolve));
  }
  await Promise.all(waiting);
  agent.destroy();
  // The beginning is not counted: connections are made.
  const counted = times.slice(times.length / 5).sort((a, b) => a - b);
  return counted[Math.floor(counted.length * 0.99)] ?? median(counted);
}
