/** Many reviews: fifty opened within a second beside an environment that is asked, two hundred that sleep, the close of one with a database. */
import { request } from 'node:http';
import pg from 'pg';
import { until } from '../demo/seed.js';
import type { Environment } from '../src/wire/environments/environments.js';
import { type Bench, type Figure, figure, timed } from './harness.js';
import { benchProject } from './project.js';

const atOnce = 50;
const all = 200;
const closes = 9;
/** Milliseconds between two requests to the environment that stands, and for which it is asked beforehand. */
const askMs = 20;
const beforeMs = 8_000;

const server = `import { createServer } from 'node:http';
createServer((request, response) => response.end('here')).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, start: node server.js, ready: /, memory: 64M } }
  resources: { timetable: { kind: postgres } }
  variables: { DATABASE_URL: { from: timetable.url } }
environments:
  review: { for: pull requests, idle: { sleep: 5s, end: 1s } }
  staging: { branch: main }
`;

export async function crowd(bench: Bench): Promise<Figure[]> {
  const { api, house } = bench;
  const project = await benchProject(bench, 'starlings');
  await project.push({
    'package.json': '{ "type": "module" }\n',
    'server.js': server,
    'tsunagi.yaml': definition,
  });
  const at = '/api/projects/starlings';
  await until(
    async () => ((await api.get<Environment>(`${at}/environments/staging`).catch(() => null))?.live ? true : null),
    'staging is live',
  );
  const names = Array.from({ length: all }, (_, n) => `b${n + 1}`);
  await project.push({ 'branch.txt': 'all\n' }, 'all');
  const refs = names.map((name) => `all:refs/heads/${name}`);
  for (let from = 0; from < refs.length; from += atOnce) await project.send(refs.slice(from, from + atOnce));
  const records = new pg.Client(house.database);
  await records.connect();
  try {
    const released = async () =>
      Number(
        (
          await records.query<{ n: string }>(
            `select count(*) as n from releases r join projects p on p.id = r.project_id where p.name = 'starlings' and r.branch ~ '^b[0-9]+$'`,
          )
        ).rows[0]?.n,
      );
    await until(async () => ((await released()) >= all ? true : null), 'a release for each branch', 300_000);

    const host = 'starlings-staging.localhost';
    const usual = await answers(house.edgePort, host, async () => {
      await new Promise((resolve) => setTimeout(resolve, beforeMs));
    });
    const open = (branch: string) => api.post<Environment>(`${at}/reviews`, { branch });
    const state = async () =>
      (
        await records.query<{ state: string; n: string }>(
          `select e.state, count(*) as n from environments e join projects p on p.id = e.project_id
           where p.name = 'starlings' and e.kind = 'review' and e.live_id is not null group by e.state`,
        )
      ).rows;
    const count = async (states: readonly string[]) =>
      (await state()).filter((row) => states.includes(row.state)).reduce((sum, row) => sum + Number(row.n), 0);
    const living = ['live', 'falling asleep', 'asleep', 'waking'];
    let opened = 0;
    let live = 0;
    const meanwhile = await answers(house.edgePort, host, async () => {
      live = await timed(async () => {
        opened = await timed(() => Promise.all(names.slice(0, atOnce).map(open)));
        await until(async () => ((await count(living)) >= atOnce ? true : null), 'fifty are live', 300_000);
      });
    });
    for (let from = atOnce; from < all; from += atOnce)
      for (const name of names.slice(from, from + atOnce)) await open(name);
    await until(
      async () => {
        const { rows } = await records.query<{ n: string }>(
          `select count(*) as n from instances i join deployments d on d.id = i.deployment_id join environments e on e.id = d.environment_id
           where e.kind = 'review' and i.state in ('waiting', 'starting', 'ready', 'frozen')`,
        );
        return (await count(['asleep'])) >= all && rows[0]?.n === '0' ? true : null;
      },
      'all sleep, and nothing of them runs',
      600_000,
    );
    const boards: number[] = [];
    for (let round = 0; round < 20; round++) boards.push(await timed(() => api.get('/api/board')));
    const closing: number[] = [];
    for (const name of names.slice(0, closes)) {
      const path = `${at}/environments/on-${name}`;
      closing.push(
        await timed(async () => {
          await api.post(`${path}/close`);
          await until(
            async () => ((await api.get<Environment>(path)).state === 'closed' ? true : null),
            'it is closed',
          );
        }),
      );
    }
    const [before, beside] = [quantile(usual, 0.95), quantile(meanwhile, 0.95)];
    return [
      figure('fifty reviews are opened', 'ms', [opened], [], { text: '≤ 1000 ms', met: (value) => value <= 1_000 }),
      figure('fifty opened at once are live', 'ms', [live], [], { text: 'all', met: () => true }),
      figure('p95 of staging meanwhile', 'ms', [beside], [before], {
        text: '≤ 2 × its usual p95',
        met: (_value, ratio) => (ratio ?? 9) <= 2,
      }),
      figure('the board with 200 reviews asleep', 'ms', boards.slice(1), [], {
        text: '≤ 50 ms, and no process of them',
        met: (value) => value <= 50,
      }),
      figure('a sleeping review with a database is closed', 'ms', closing, [], {
        text: '≤ 500 ms',
        met: (value) => value <= 500,
      }),
    ];
  } finally {
    await records.end();
  }
}

const quantile = (values: readonly number[], share: number): number =>
  [...values].sort((a, b) => a - b)[Math.floor((values.length - 1) * share)] ?? Number.NaN;

/** Milliseconds of each answer while something goes on. */
async function answers(port: number, host: string, work: () => Promise<void>): Promise<number[]> {
  const times: number[] = [];
  const asked: Promise<void>[] = [];
  const timer = setInterval(() => {
    const began = performance.now();
    asked.push(
      new Promise((resolve, reject) => {
        request({ host: '127.0.0.1', port, headers: { host: `${host}:${port}` }, agent: false }, (incoming) => {
          incoming.resume();
          incoming.on('end', () => {
            if (incoming.statusCode !== 200) return reject(new Error(`staging answered ${incoming.statusCode}`));
            times.push(performance.now() - began);
            resolve();
          });
        })
          .on('error', reject)
          .end();
      }),
    );
  }, askMs);
  try {
    await work();
  } finally {
    clearInterval(timer);
  }
  await Promise.all(asked);
  return times;
}
