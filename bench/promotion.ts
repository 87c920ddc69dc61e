/** From the wish for a promotion of three parts of two instances until it is live, beside what six such programs take to start. */
import { type ChildProcess, spawn } from 'node:child_process';
import { mkdtempSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { join } from 'node:path';
import { until, untilLive } from '../demo/seed.js';
import type { Deployment } from '../src/wire/environments/environments.js';
import { type Bench, type Figure, figure, timed } from './harness.js';
import { benchProject } from './project.js';

const rounds = 10;
const quietMs = 3_000;
const parts = ['quay', 'pier', 'slip'];
const each = 2;
/** Below the ports of instances. */
const ownPort = 19_500;

const server = (text: string) =>
  `import { createServer } from 'node:http';\ncreateServer((request, response) => response.end('${text}')).listen(process.env.PORT);\nprocess.on('SIGTERM', () => process.exit(0));\n`;
const definition = `tsunagi: 1
release:
  parts:
${parts.map((name) => `    ${name}: { kind: server, start: node server.js, at: /${name}, ready: /${name}, instances: ${each} }`).join('\n')}
environments:
  staging: { branch: main }
  production: { after: staging }
`;

export async function promotion(bench: Bench): Promise<Figure[]> {
  const { api } = bench;
  const project = await benchProject(bench, 'three-parts');
  const manifest = { 'package.json': '{ "type": "module" }\n', 'tsunagi.yaml': definition };
  for (const text of ['one', 'two'])
    await untilLive(api, 'three-parts/staging', await project.push({ ...manifest, 'server.js': server(text) }));
  const folder = mkdtempSync(join(bench.folder, 'six-'));
  writeFileSync(join(folder, 'server.js'), server('own'));
  writeFileSync(join(folder, 'package.json'), manifest['package.json']);
  const [values, bases]: [number[], number[]] = [[], []];
  for (let round = 0; round < rounds; round++) {
    // What the round before has left behind ends first, and places stand ready again: nobody promotes twice in a second.
    await new Promise((resolve) => setTimeout(resolve, quietMs));
    const asked = await api.post<Deployment>('/api/projects/three-parts/environments/production/deployments', {
      kind: 'promote',
      release: (round % 2) + 1,
    });
    const done = await until(async () => {
      const one = await api.get<Deployment>(`/api/projects/three-parts/deployments/${asked.number}`);
      return one.state === 'live' ? one : null;
    }, `d${asked.number} is live`);
    // The first two fetch their files.
    if (round < 2) continue;
    bases.push(
      await timed(() =>
        Promise.all(Array.from({ length: parts.length * each }, (_, at) => start(folder, ownPort + at))),
      ),
    );
    values.push(Date.parse(done.liveAt as string) - Date.parse(done.createdAt));
    for (const child of running.splice(0)) child.kill();
  }
  return [
    figure(
      'promotion of 3 parts × 2, above the programs’ start',
      'ms',
      values.map((ms, at) => ms - (bases[at] as number)),
      [],
      { text: '≤ 400 ms', met: (value) => value <= 400 },
    ),
  ];
}

const running: ChildProcess[] = [];

/** Until it takes a connection. */
async function start(cwd: string, port: number): Promise<void> {
  running.push(spawn(process.execPath, ['server.js'], { cwd, env: { PORT: String(port) }, stdio: 'ignore' }));
  for (;;) {
    const open = await new Promise<boolean>((resolve) => {
      const socket = connect(port, '127.0.0.1', () => {
        socket.destroy();
        resolve(true);
      });
      socket.on('error', () => resolve(false));
    });
    if (open) return;
    await new Promise((resolve) => setTimeout(resolve, 2));
  }
}
