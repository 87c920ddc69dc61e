/** From the wish for a deployment until its release is live, beside what its program takes to start by itself. */
import { type ChildProcess, spawn } from 'node:child_process';
import { mkdtempSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { join } from 'node:path';
import pg from 'pg';
import type { Deployment } from '../src/wire/environments/environments.js';
import { until } from '../demo/seed.js';
import { type Bench, type Figure, figure, timed } from './harness.js';
import { benchProject } from './project.js';

const rounds = 15;
/** Below the ports of instances. */
const ownPort = 19_400;

const server = (text: string) =>
  `import { createServer } from 'node:http';\ncreateServer((request, response) => response.end('${text}')).listen(process.env.PORT);\nprocess.on('SIGTERM', () => process.exit(0));\n`;

const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, start: node server.js, ready: / } }
environments:
  production: {}
`;

export async function live(bench: Bench): Promise<Figure[]> {
  const project = await benchProject(bench, 'swift');
  const manifest = { 'package.json': '{ "type": "module" }\n', 'tsunagi.yaml': definition };
  for (const text of ['one', 'two']) await project.push({ ...manifest, 'server.js': server(text) });
  const releases = await until(async () => {
    const { items } = await bench.api.get<{ items: { number: number }[] }>('/api/projects/swift/releases');
    return items.length >= 2 ? items.map((one) => one.number) : null;
  }, 'two releases');
  const folder = mkdtempSync(join(bench.folder, 'own-'));
  writeFileSync(join(folder, 'server.js'), server('own'));
  writeFileSync(join(folder, 'package.json'), manifest['package.json']);
  const records = new pg.Client(bench.house.database);
  await records.connect();
  const path = '/api/projects/swift/environments/production';
  const [values, bases]: [number[], number[]] = [[], []];
  try {
    for (let round = 0; round < rounds; round++) {
      const release = releases[round % 2];
      const { number } = await bench.api.post<Deployment>(`${path}/deployments`, { kind: 'deploy', release });
      await until(
        async () =>
          (await bench.api.get<Deployment>(`/api/projects/swift/deployments/${number}`)).state === 'live' ? true : null,
        `d${number} is live`,
      );
      const { rows } = await records.query<{ ms: number }>(
        `select (extract(epoch from d.state_since - d.created_at) * 1000)::float8 as ms
         from deployments d join projects p on p.id = d.project_id where p.name = 'swift' and d.number = $1`,
        [number],
      );
      // The first two fetch their files.
      if (round < 2) continue;
      values.push(rows[0]?.ms ?? Number.NaN);
      bases.push(await ownStart(folder, ownPort + round));
    }
  } finally {
    await records.end();
  }
  return [
    figure('a release live', 'ms', values, bases, {
      text: '≤ 300 ms above its program’s own start',
      met: (value, ratio) => value - value / (ratio ?? 1) <= 300,
    }),
  ];
}

/** Milliseconds until the program `server.js` listens, started by nobody but this. */
export async function ownStart(folder: string, port: number): Promise<number> {
  let child: ChildProcess | null = null;
  try {
    return await timed(async () => {
      child = spawn(process.execPath, ['server.js'], { cwd: folder, env: { PORT: String(port) }, stdio: 'ignore' });
      while (!(await listens(port))) await new Promise((resolve) => setTimeout(resolve, 1));
    });
  } finally {
    (child as ChildProcess | null)?.kill('SIGKILL');
  }
}

const listens = (port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const socket = connect(port, '127.0.0.1', () => {
      socket.destroy();
      resolve(true);
    });
    socket.on('error', () => resolve(false));
  });
