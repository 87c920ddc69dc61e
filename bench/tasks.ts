/** Eight tasks of 0.2 s on three levels with two slots, from run recorded to run passed, against `make -j2` and a shell script of the same commands. */
import { execFile } from 'node:child_process';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { untilRun } from '../demo/seed.js';
import { type Bench, type Figure, figure, timed } from './harness.js';
import { benchProject } from './project.js';

const graph: Record<string, string[]> = {
  a: [],
  b: [],
  c: [],
  d: ['a', 'b'],
  e: ['b', 'c'],
  f: ['c'],
  g: ['d', 'e'],
  h: ['e', 'f'],
};
/** Each is another work: tasks that need the same would share one attempt. */
const command = (name: string) => `sleep 0.2 # ${name}`;
const rounds = 7;

export async function tasks(bench: Bench): Promise<Figure[]> {
  const project = await benchProject(bench, 'eight');
  const place = join(bench.folder, 'make');
  mkdirSync(place, { recursive: true });
  const names = Object.keys(graph);
  writeFileSync(
    join(place, 'Makefile'),
    `.PHONY: all ${names.join(' ')}\nall: ${names.join(' ')}\n${names.map((name) => `${name}: ${graph[name]?.join(' ')}\n\t@${command(name)}\n`).join('')}`,
  );
  writeFileSync(join(place, 'all.sh'), `set -e\n${names.map((name) => `${command(name)}\n`).join('')}`);
  const run = promisify(execFile);
  const own: number[] = [];
  const make: number[] = [];
  const shell: number[] = [];
  for (let round = 0; round <= rounds; round++) {
    // Each round reads another file, so that no round can use what another has made.
    const definition = `tsunagi: 1\ntasks:\n${names.map((name) => `  ${name}: { needs: [${graph[name]?.join(', ')}], reads: [round.txt], run: '${command(name)}' }\n`).join('')}`;
    const id = await project.push({ 'round.txt': String(round), 'tsunagi.yaml': definition });
    // Asking costs the service time: nothing is asked before the commands alone must have taken theirs.
    await new Promise((resolve) => setTimeout(resolve, 1_200));
    const ended = await untilRun(bench.api, 'eight', id);
    if (ended.state !== 'passed') throw new Error(`run ${ended.number} ${ended.state}`);
    const made = await timed(() => run('make', ['-s', '-j2', 'all'], { cwd: place }));
    const scripted = await timed(() => run('bash', ['all.sh'], { cwd: place }));
    if (round === 0) continue;
    own.push(Date.parse(ended.endedAt as string) - Date.parse(ended.createdAt));
    make.push(made);
    shell.push(scripted);
  }
  return [
    figure('eight tasks, recorded to passed, to make -j2', 'ms', own, make, {
      text: '≤ 1.10 ×',
      met: (_, ratio) => (ratio ?? 9) <= 1.1,
    }),
    figure('eight tasks, recorded to passed, to a script', 'ms', own, shell, {
      text: '< 1 ×',
      met: (_, ratio) => (ratio ?? 9) < 1,
    }),
  ];
}
