/** Hands and logs: how soon a command inside an environment prints, how many lines its programs may, and how fast one is found. */
import { request } from 'node:http';
import { joinTerminal } from '../src/cli/stream.js';
import { until } from '../demo/seed.js';
import { type Bench, type Figure, figure, pair, timed } from './harness.js';
import { benchProject } from './project.js';

const rounds = 9;
const lines = 400_000;

export async function inside(bench: Bench): Promise<Figure[]> {
  const project = await benchProject(bench, 'hands');
  await project.push({
    'server.js': `const { createServer } = require('node:http');
createServer((request, response) => {
  const wanted = Number(/^\\/print\\/(\\d+)$/.exec(request.url)?.[1] ?? 0);
  let n = 0;
  const print = () => {
    let text = '';
    for (let at = 0; at < 2000 && n < wanted; at++) text += 'line ' + ++n + ' of a program that says what it does, and to whom\\n';
    if (text && !process.stdout.write(text)) process.stdout.once('drain', print);
    else if (n < wanted) setImmediate(print);
  };
  print();
  response.end('ok');
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`,
    'tsunagi.yaml': `tsunagi: 1
release:
  parts: { api: { kind: server, files: [server.js], start: node server.js } }
environments:
  staging: { branch: main }
`,
  });
  const path = '/api/projects/hands/environments/staging';
  await until(
    async () => (await bench.api.get<{ live: object | null }>(path).catch(() => null))?.live,
    'hands is live',
  );
  // As the command line finds them.
  process.env.TSUNAGI_URL = bench.house.url;
  process.env.TSUNAGI_TOKEN = bench.house.token;
  const firstByte = (beside: boolean) => () =>
    timed(async () => {
      let seen = () => {};
      const first = new Promise<void>((resolve) => {
        seen = resolve;
      });
      const hand = await joinTerminal(
        path,
        { command: ['echo', 'x'], tty: false, ...(beside ? { beside: 'api.1' } : {}) },
        { size: [80, 24], term: 'dumb' },
        {
          output: () => {
            seen();
            return true;
          },
          errors: () => true,
        },
      );
      hand.eof();
      await first;
    });
  const goal = { text: '≤ 300 ms', met: (value: number) => value <= 300 };
  return [
    await pair({ name: 'first byte of exec, own sandbox', unit: 'ms', rounds, measure: firstByte(false), goal }),
    await pair({ name: 'first byte of exec, beside a program', unit: 'ms', rounds, measure: firstByte(true), goal }),
    ...(await logged(bench, path)),
  ];
}

/** Asks the program to print. */
const print = (bench: Bench, count: number): Promise<void> =>
  new Promise((resolve, reject) => {
    request(
      {
        host: '127.0.0.1',
        port: bench.house.edgePort,
        path: `/print/${count}`,
        headers: { host: 'hands-staging.localhost' },
      },
      (answer) => answer.resume().once('end', resolve),
    )
      .once('error', reject)
      .end();
  });

async function logged(bench: Bench, path: string): Promise<Figure[]> {
  const find = async (text: string): Promise<number> => {
    const query = new URLSearchParams({ find: text, limit: '10' });
    return (await bench.api.get<{ lines: object[] }>(`${path}/logs?${query}`)).lines.length;
  };
  const rates: number[] = [];
  for (let round = 1; round <= 3; round++) {
    const total = lines + round;
    const ms = await timed(async () => {
      await print(bench, total);
      await until(async () => (await find(`line ${total} of`)) > 0, 'the last line is there');
    });
    rates.push(total / (ms / 1_000));
  }
  const searches: number[] = [];
  for (let round = 0; round < rounds; round++) searches.push(await timed(() => find(`line ${lines - 17 * round} of`)));
  return [
    figure('lines a second from an instance, kept and found', '/s', rates, [], {
      text: '≥ 50,000',
      met: (value) => value >= 50_000,
    }),
    figure(`a line of ${(lines * 3) / 1e6} million found`, 'ms', searches, [], {
      text: '≤ 300 ms',
      met: (value) => value <= 300,
    }),
  ];
}
