/** Two releases beside each other that lie 1,000 commits and 5,000 files apart. */
import { execFileSync } from 'node:child_process';
import { untilLive } from '../demo/seed.js';
import { type Bench, type Figure, pair, timed } from './harness.js';
import { benchProject } from './project.js';

const [commits, files] = [1_000, 5_000];
const definition = `tsunagi: 1
release: { parts: { page: { kind: site, files: [web/], root: web } } }
environments: { staging: { branch: main } }
`;
const pages = (text: string) =>
  Object.fromEntries(Array.from({ length: files }, (_, at) => [`web/${at % 50}/page-${at}.html`, `${text} ${at}\n`]));

export async function compare(bench: Bench): Promise<Figure[]> {
  const { api } = bench;
  const project = await benchProject(bench, 'far-apart');
  const first = await project.push({ 'tsunagi.yaml': definition, ...pages('one') });
  await untilLive(api, 'far-apart/staging', first);
  // One stream for all of them: a process for each commit would take a minute.
  const head = execFileSync('git', ['-C', project.checkout, 'rev-parse', 'HEAD'], { encoding: 'utf8' }).trim();
  const stream = Array.from(
    { length: commits - 1 },
    (_, at) =>
      `commit refs/heads/main\ncommitter Aoi <aoi@kohama.example> ${1_780_000_000 + at} +0900\ndata 8\nStep ${String(at).padStart(3, '0')}\n${at === 0 ? `from ${head}\n` : ''}\n`,
  ).join('');
  execFileSync('git', ['-C', project.checkout, 'fast-import', '--quiet', '--force'], { input: stream });
  execFileSync('git', ['-C', project.checkout, 'reset', '-q', '--hard', 'main']);
  const last = await project.push(pages('two'));
  await untilLive(api, 'far-apart/staging', last);
  const path = '/api/projects/far-apart/compare?from=r1&to=r2';
  return [
    await pair({
      name: `compare, ${commits} commits and ${files} files apart`,
      unit: 'ms',
      rounds: 15,
      measure: () => timed(() => api.get(path)),
      goal: { text: '≤ 100 ms', met: (value) => value <= 100 },
    }),
  ];
}
