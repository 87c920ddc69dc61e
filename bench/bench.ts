/** `npm run bench [-- NAME…] [--json]`: measures what docs/performance.md reports. Each area ends within three minutes. */
import { mkdtempSync, chmodSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openHouse } from '../src/cli/serve/serve.js';
import { demoApi } from '../demo/seed.js';
import { board } from './board.js';
import { commandLine } from './command-line.js';
import { openConsole } from './console.js';
import { cutover } from './cutover.js';
import { delivery } from './delivery.js';
import { log, planning, reuse, start } from './engine.js';
import { edge } from './edge.js';
import { environments } from './environments.js';
import { guide } from './guide.js';
import { inside } from './inside.js';
import { firstLine, queue } from './queue.js';
import { lists } from './lists.js';
import { live } from './live.js';
import { compare } from './compare.js';
import { copies } from './copies.js';
import { many } from './many.js';
import { judge } from './judge.js';
import { mirror } from './mirror.js';
import { promotion } from './promotion.js';
import { reviews } from './reviews.js';
import { type Bench, type Figure, show } from './harness.js';
import { steps } from './steps.js';
import { tasks } from './tasks.js';

const areas: Record<string, (bench: Bench) => Promise<Figure[]>> = {
  tasks,
  steps,
  reuse,
  planning,
  start,
  line: firstLine,
  queue,
  guide,
  log,
  lists,
  board,
  console: openConsole,
  cutover,
  judge: () => judge(),
  mirror,
  delivery,
  promotion,
  compare,
  live,
  reviews,
  copies,
  many,
  environments,
  inside,
  edge,
  'command-line': () => commandLine(),
};

async function main(): Promise<number> {
  const args = process.argv.slice(2);
  const json = args.includes('--json');
  const names = args.filter((one) => !one.startsWith('--'));
  const unknown = names.find((one) => !areas[one]);
  if (unknown) {
    process.stderr.write(`There is no bench ${unknown}; there are ${Object.keys(areas).join(', ')}.\n`);
    return 2;
  }
  const folder = mkdtempSync(join(tmpdir(), 'tsunagi-bench-'));
  chmodSync(folder, 0o711);
  const house = await openHouse({
    data: join(folder, 'house'),
    counted: true,
    env: { TSUNAGI_LOG_LEVEL: 'warn', TSUNAGI_CHROMIUM: 'none' },
  });
  try {
    for (const [name, run] of Object.entries(areas)) {
      if (names.length && !names.includes(name)) continue;
      for (const one of await run({ house, api: demoApi(house.url, house.token), folder }))
        process.stdout.write(`${json ? JSON.stringify(one) : show(one)}\n`);
    }
    return 0;
  } finally {
    await house.close();
    rmSync(folder, { recursive: true, force: true });
  }
}

main().then(
  (status) => process.exit(status),
  (error: unknown) => {
    process.stderr.write(`${(error as Error).stack ?? error}\n`);
    process.exit(1);
  },
);
