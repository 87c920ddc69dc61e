/**
 * What a step of a run costs: statements and transactions a task, counted by the server, for runs of 20 to 2,000 tasks of `true`;
 * and the time of 200 of them on 20 levels, against `make -j2` of the same commands, each in the same chain of processes.
 */
import { execFile } from 'node:child_process';
import { chmodSync, mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { untilRun } from '../demo/seed.js';
import { chainCall, installScripts, prepareFolder, writeChain } from '../src/agent/sandbox/chain.js';
import { findAccounts } from '../src/agent/sandbox/host.js';
import { groupOf } from '../src/agent/sandbox/limits.js';
import { word } from '../src/core/recognise/look.js';
import { openCounted } from './counted.js';
import { type Bench, type Figure, figure, timed } from './harness.js';
import { type BenchProject, benchProject } from './project.js';

const run = promisify(execFile);
const wide = 10;
const rounds = 3;

/** Tasks of `true`, ten on a level; each needs the one above it and its neighbour. */
const graphOf = (count: number): { name: string; needs: string[] }[] =>
  Array.from({ length: count }, (_, at) => ({
    name: `t${at}`,
    needs: at < wide ? [] : [`t${at - wide}`, `t${at - wide - (at % wide) + ((at + 1) % wide)}`],
  }));

export const definitionOf = (count: number, round: number): string =>
  `tsunagi: 1\ntasks:\n${graphOf(count)
    .map(
      ({ name, needs }) => `  ${name}: { needs: [${needs.join(', ')}], reads: [], run: 'true # ${round} ${name}' }\n`,
    )
    .join('')}`;

export async function runOf(
  { api }: Bench,
  project: BenchProject,
  count: number,
  round: number,
  wait: number,
): Promise<{ ms: number; id: string }> {
  const id = await project.push({ 'tsunagi.yaml': definitionOf(count, round) });
  // Asking costs the service time: nothing is asked while it works.
  await new Promise((resolve) => setTimeout(resolve, wait));
  const ended = await untilRun(api, project.name, id);
  if (ended.state !== 'passed') throw new Error(`run ${ended.number} ${ended.state}`);
  return { ms: Date.parse(ended.endedAt as string) - Date.parse(ended.createdAt), id };
}

/** Scripts that run `true`, each in a chain of its own, and a Makefile of the same graph. A chain's folder serves once: what it reads is removed. */
function prepareMake(folder: string, count: number, round: number): string {
  const place = join(folder, `chains-${round}`);
  const bin = join(place, 'bin');
  for (const path of [place, join(place, 'work')]) {
    mkdirSync(path, { recursive: true });
    chmodSync(path, 0o711);
  }
  installScripts(bin);
  const account = findAccounts().work;
  const graph = graphOf(count);
  const names = graph.map((one) => one.name).join(' ');
  const lines = [`.PHONY: all ${names}`, `all: ${names}`];
  for (const { name, needs } of graph) {
    const own = join(place, 'work', name);
    prepareFolder(own, account);
    const rlimits = { file: 1024 ** 3, processes: null, memory: null };
    const group = groupOf('none', name);
    const frame = {
      folder: own,
      account,
      network: 'none' as const,
      writable: true,
      watchLease: false,
      group,
      tied: false,
      runs: 'held' as const,
      rlimits,
    };
    const network = { open: false, listen: null, reach: [], through: [], only: [], bounded: [] };
    writeChain(
      frame,
      { layers: [], writable: true, variables: {}, network, tmp: null, binds: [], command: ['true'] },
      bin,
    );
    const call = chainCall(frame, bin);
    const env = Object.entries(call.env).map(([key, value]) => word(`${key}=${value}`));
    writeFileSync(
      join(place, `${name}.sh`),
      `exec env -i ${env.join(' ')} ${[call.file, ...call.args].map(word).join(' ')} <<E\n${rlimits.file / 1024}\nE\n`,
    );
    lines.push(`${name}: ${needs.join(' ')}`, `\t@sh ${place}/${name}.sh`);
  }
  writeFileSync(join(place, 'Makefile'), `${lines.join('\n')}\n`);
  return place;
}

export async function steps(bench: Bench): Promise<Figure[]> {
  const { records, now: counted } = await openCounted(bench);
  try {
    const project = await benchProject(bench, 'steps');
    const figures: Figure[] = [];
    await runOf(bench, project, 20, -1, 3_000);
    for (const count of [20, 200, 2_000]) {
      const before = await counted();
      const { ms } = await runOf(bench, project, count, count, count * 25 + 1_000);
      const after = await counted();
      const each = (key: 'statements' | 'transactions') => [(after[key] - before[key]) / count];
      figures.push(
        figure(`statements a task, run of ${count}`, '', each('statements'), [], {
          text: '≤ 10',
          met: (value) => value <= 10,
        }),
        figure(`transactions a task, run of ${count}`, '', each('transactions'), [], {
          text: '≤ 1',
          met: (value) => value <= 1,
        }),
        figure(`time a task, run of ${count}`, 'ms', [ms / count], [], { text: 'flat', met: () => true }),
      );
      if (process.env.TSUNAGI_BENCH_STATEMENTS) {
        const { rows } = await records.query(
          'select calls, round(total_exec_time::numeric, 1) as ms, left(query, 160) as query from pg_stat_statements order by calls desc limit 45',
        );
        for (const row of rows)
          process.stdout.write(`${row.calls}\t${row.ms}\t${String(row.query).replace(/\s+/g, ' ')}\n`);
        await records.query('select pg_stat_statements_reset()');
      }
    }
    const own: number[] = [];
    const make: number[] = [];
    for (let round = 0; round < rounds; round++) {
      own.push((await runOf(bench, project, 200, 10_000 + round, 5_000)).ms);
      const place = prepareMake(bench.folder, 200, round);
      make.push(await timed(() => run('make', ['-s', '-j2', 'all'], { cwd: place })));
    }
    figures.push(
      figure('200 tasks on 20 levels, to make -j2 in the same chain', 'ms', own, make, {
        text: '≤ 1.50 ×',
        met: (_, ratio) => (ratio ?? 9) <= 1.5,
      }),
    );
    return figures;
  } finally {
    await records.end();
  }
}
