/** How soon somebody who has never seen the service is live: recognising a large tree, and from adding a project to its address. */
import { execFileSync, spawn } from 'node:child_process';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { AddedProject } from '../src/wire/projects.js';
import type { Environment } from '../src/wire/environments/environments.js';
import type { Recognised } from '../src/wire/guide.js';
import { commit, startCheckout } from '../demo/scenario/write.js';
import { type Bench, type Figure, figure, timed } from './harness.js';

const rounds = 5;
const files = 50_000;
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));
const server =
  "require('node:http').createServer((q, r) => r.end('x')).listen(process.env.PORT, () => console.log('listens'));\nprocess.on('SIGTERM', () => process.exit(0));\n";

export async function guide(bench: Bench): Promise<Figure[]> {
  return [await recognising(bench), await firstAddress(bench)];
}

async function recognising({ api, folder }: Bench): Promise<Figure> {
  const bare = join(folder, 'large.git');
  execFileSync('git', ['init', '-q', '--bare', '--initial-branch=main', bare]);
  const data = (text: string) => `data ${Buffer.byteLength(text)}\n${text}\n`;
  const tree = Array.from({ length: files }, (_, at) => `M 100644 :1 src/part${at % 500}/file${at}.js\n`).join('');
  const input = `blob\nmark :1\n${data("import './x.js';")}blob\nmark :2\n${data('{ "scripts": { "start": "node server.js" } }')}commit refs/heads/main\ncommitter Mika <m@kohama.example> 1790000000 +0000\n${data('Large')}M 100644 :2 package.json\n${tree}\n`;
  execFileSync('git', ['--git-dir', bare, 'fast-import', '--quiet'], { input });
  const values: number[] = [];
  for (let round = 0; round <= rounds; round++) {
    const took = await timed(() => api.post<Recognised>('/api/sources/proposal', { url: `file://${bare}` }));
    // The first round fetches it; those that count find it there, and look at all of it again.
    if (round > 0) values.push(took);
  }
  return figure(`recognising a tree of ${files} files`, 'ms', values, [], {
    text: '≤ 1,000 ms',
    met: (value) => value <= 1_000,
  });
}

async function firstAddress({ api, folder }: Bench): Promise<Figure> {
  const place = join(folder, 'smallest');
  await startCheckout(place, 'none');
  await commit(
    place,
    {
      title: 'The smallest server',
      author: 'Mika',
      files: { 'server.js': server, 'package.json': '{ "scripts": { "start": "node server.js" } }' },
    },
    1,
  );
  const values: number[] = [];
  for (let round = 0; round <= rounds; round++) {
    const own = await ownStart(folder);
    const name = `small-${round}`;
    const whole = await timed(async () => {
      const found = await api.post<Recognised>('/api/sources/proposal', { url: `file://${place}` });
      await api.post<AddedProject>('/api/projects', {
        name,
        source: 'polled',
        url: `file://${place}`,
        mainBranch: 'main',
        draft: found.text,
      });
      for (;;) {
        const one = await api.get<Environment>(`/api/projects/${name}/environments/staging`).catch(() => null);
        if (one?.live && !one.moving) return;
        await pause(40);
      }
    });
    if (round > 0) values.push(whole - own);
  }
  return figure('guide to the first live address, above the program’s own start', 'ms', values, [], {
    text: '≤ 2,000 ms',
    met: (value) => value <= 2_000,
  });
}

/** The program alone, from its start until it listens. */
async function ownStart(folder: string): Promise<number> {
  const place = join(folder, 'alone');
  mkdirSync(place, { recursive: true });
  writeFileSync(join(place, 'server.js'), server);
  return timed(
    () =>
      new Promise<void>((resolve, reject) => {
        const child = spawn(process.execPath, ['server.js'], {
          cwd: place,
          env: { PATH: process.env.PATH, PORT: '0' },
          stdio: ['ignore', 'pipe', 'inherit'],
        });
        child.on('error', reject);
        child.stdout.once('data', () => {
          child.kill();
          resolve();
        });
      }),
  );
}
