/** `sailings`, the departures app of Kohama Ferries: a page, an API, a worker and a database, in plain Node. */
import { readFileSync } from 'node:fs';
import type { Change } from './write.js';

/** The database driver in one file, made by the build: the repository keeps it beside its sources. */
const driver = () => readFileSync(new URL('../../driver.js', import.meta.url), 'utf8');

const definition = `tsunagi: 1
tools: { node: ">=20" }

tasks:
  lint:
    reads: [package.json, src/, web/, test/, smoke/]
    run: node --check src/api.js && node --check src/caller.js && node --check src/digest.js && node --check web/build.js
  unit:
    reads: [package.json, src/, test/]
    run:
      - mkdir -p out
      - >-
        node --no-warnings --test --experimental-test-coverage
        --test-reporter=junit --test-reporter-destination=out/junit.xml
        --test-reporter=lcov --test-reporter-destination=out/lcov.info
        --test-reporter=spec --test-reporter-destination=stdout test/
    results: out/junit.xml
    coverage: out/lcov.info
    timeout: 2m
  web:
    reads: [package.json, web/]
    run: node web/build.js
    makes: [web/dist/]

release:
  needs: [lint, unit]
  parts:
    departures:
      kind: site
      needs: [web]
      root: web/dist
      at: /
      fallback: index.html
      settings: { at: /settings.json, names: [PUBLIC_API, PIER] }
      headers: { /: { X-Content-Type-Options: nosniff } }
      redirects: { /timetable: / }
    api:
      { kind: server, files: [package.json, src/], start: node src/api.js, at: /api, ready: /api/ready, instances: 2, volumes: [reports] }
    caller: { kind: worker, files: [package.json, src/], start: node src/caller.js }
    digest:
      { kind: job, files: [package.json, src/], run: node src/digest.js, at: ["05:00 Asia/Tokyo"], timeout: 2m, volumes: [reports] }
  resources:
    timetable: { kind: postgres, size: 512M, backup: { every: 1d, keep: 7, try: 7d } }
    reports: { kind: volume, size: 32M, backup: { every: 1d, keep: 7, try: 7d } }
  prepare: { part: api, run: node src/migrate.js }
  migrations: { files: [src/migrations/] }
  variables:
    DATABASE_URL: { from: timetable.url }
    REPORTS: { from: reports.path }
    PIER: { default: Kohama South }
    PUBLIC_URL: { from: environment.url }
    PUBLIC_API: { from: environment.url, append: /api }
    RELEASE: { from: release.number }

environments:
  review:
    for: pull requests
    data: { timetable: { copy: staging, fresh: 1d }, reports: { copy: staging, fresh: 1d } }
  staging:
    branch: main
    scrub: { part: api, run: node src/scrub.js }
    pictures: [/]
    verify: { reads: [smoke/], run: node smoke/check.js }
  production:
    after: staging
    approvals: 1
    cutover: [mirror for 10s, 20% for 10s, 50% for 10s]
    guard: { errors: 2%, p95: 800ms }
    warm: 15m
`;

const packageJson = `{
  "name": "sailings",
  "private": true,
  "type": "module",
  "scripts": { "test": "node --test test/", "build": "node web/build.js" }
}
`;

const timetable = (extra = '') => `/** Sailings from now on, the next first. */
export function departures(sailings, now) {
  return sailings.filter((one) => one.at >= now).sort((a, b) => a.at.localeCompare(b.at));
}
${extra}`;

const table = `create table sailings (
  at char(5) primary key,
  destination text not null,
  ferry text not null
);

insert into sailings (at, destination, ferry) values
  ('06:10', 'Mejima', 'Hamakaze'),
  ('07:40', 'Okinoshima', 'Shiosai'),
  ('09:05', 'Mejima', 'Hamakaze'),
  ('12:30', 'Okinoshima', 'Shiosai'),
  ('17:20', 'Mejima', 'Hamakaze');
`;
/** Who is called when a sailing is late: made up, as all of Kohama Ferries. */
const subscribers = `create table subscribers (
  id serial primary key,
  name text not null,
  phone text not null
);

insert into subscribers (name, phone) values
  ('Akari Hoshino', '0190 550 014'),
  ('Daichi Umeda', '0190 550 022'),
  ('Sora Minato', '0190 550 031');
`;
const scrub = `import pg from './driver.js';

// Makes a copy of the data fit for others: who is called is none of their business.
// Reports name nobody.
if (process.env.TSUNAGI_RESOURCE !== 'timetable') process.exit(0);
const client = new pg.Client({ connectionString: process.env.DATABASE_URL });
await client.connect();
const { rowCount } = await client.query("update subscribers set name = 'Passenger ' || id, phone = '0190 550 000'");
console.log(rowCount, 'subscribers have other names and numbers in this copy');
await client.end();
`;
const winter = `insert into sailings (at, destination, ferry) values ('19:45', 'Tateshima', 'Asanagi');
`;

const store = `import pg from './driver.js';

const pool = new pg.Pool({ connectionString: process.env.DATABASE_URL, max: 4 });
// A session that is ended is met by the next question.
pool.on('error', () => {});

/** The day's sailings, in local time. */
export async function sailings() {
  return (await pool.query('select at, destination as "to", ferry from sailings')).rows;
}
`;

const migrate = `import { readdirSync, readFileSync } from 'node:fs';
import pg from './driver.js';

// Applies what is new of migrations/, in order, each whole or not at all.
const client = new pg.Client({ connectionString: process.env.DATABASE_URL });
await client.connect();
await client.query('create table if not exists migrations (name text primary key)');
const folder = new URL('migrations/', import.meta.url);
for (const name of readdirSync(folder).sort()) {
  await client.query('begin');
  const { rowCount } = await client.query('insert into migrations (name) values ($1) on conflict do nothing', [name]);
  if (rowCount) {
    await client.query(readFileSync(new URL(name, folder), 'utf8'));
    console.log('applied', name);
  }
  await client.query('commit');
}
await client.end();
`;

const arrivals = `
const minutes = { Mejima: 45, Okinoshima: 70, Tateshima: 95 };

/** When a sailing arrives, to the minute. */
export function arrival({ at, to }) {
  const [hour, minute] = at.split(':').map(Number);
  const total = hour * 60 + minute + minutes[to];
  return String(Math.floor(total / 60) % 24).padStart(2, '0') + ':' + String(total % 60).padStart(2, '0');
}
`;

const api = (row: string, extra = '') => `import { readdirSync, readFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { sailings } from './store.js';
import { arrival, departures } from './timetable.js';

const answer = (response, status, body) => {
  response.writeHead(status, { 'content-type': 'application/json' });
  response.end(JSON.stringify(body));
};

const serve = async (request, response) => {
  const { pathname, searchParams } = new URL(request.url, 'http://api');
  if (pathname === '/api/ready') return answer(response, 200, { ready: true });
  if (pathname === '/api/version') return answer(response, 200, { release: process.env.RELEASE, commit: process.env.TSUNAGI_COMMIT });
  if (pathname === '/api/departures') {
    const rows = departures(await sailings(), searchParams.get('from') ?? '00:00');
    return answer(response, 200, { pier: process.env.PIER, departures: rows.map((one) => (${row})) });
  }
  const day = /^\\/api\\/reports\\/([0-9-]{10})$/.exec(pathname)?.[1];
  if (pathname === '/api/reports') return answer(response, 200, { days: readdirSync(process.env.REPORTS).map((name) => name.slice(0, 10)).sort() });
  if (day) return answer(response, 200, { day, report: readFileSync(process.env.REPORTS + '/' + day + '.txt', 'utf8') });
${extra}  answer(response, 404, { error: 'nothing here' });
};

createServer((request, response) =>
  serve(request, response).catch((error) => {
    console.error(error.message);
    answer(response, 503, { error: 'the timetable cannot be read just now' });
  }),
).listen(Number(process.env.PORT), () => console.log('listening on', process.env.PORT));
`;
const goodRow = '{ ...one, arrives: arrival(one) }';

const digest = `import { writeFileSync } from 'node:fs';
import { sailings } from './store.js';

// What the harbour office reads in the morning; every day's report is kept.
const count = {};
for (const { to } of await sailings()) count[to] = (count[to] ?? 0) + 1;
const lines = Object.entries(count).sort().map(([to, sailings]) => to + ': ' + sailings + ' sailings today');
for (const line of lines) console.log(line);
writeFileSync(process.env.REPORTS + '/' + new Date().toISOString().slice(0, 10) + '.txt', lines.join('\\n') + '\\n');
process.exit(0);
`;

const caller = `import { sailings } from './store.js';
import { departures } from './timetable.js';

// Calls the passengers of the next sailing; here it writes the call down.
const call = async () => {
  const [next] = departures(await sailings(), new Date().toTimeString().slice(0, 5));
  console.log(next ? 'next sailing at ' + next.at + ' to ' + next.to : 'no more sailings today');
};
const again = () => call().catch((error) => console.error(error.message));
again();
setInterval(again, 30_000);
`;

const build = `import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';

mkdirSync('web/dist', { recursive: true });
for (const file of ['index.html', 'board.js', 'board.css']) writeFileSync('web/dist/' + file, readFileSync('web/' + file));
console.log('built 3 files');
`;

const page = (title: string) => `<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>${title}</title>
<link rel="stylesheet" href="/board.css">
<h1>${title}</h1>
<table><tbody id="rows"></tbody></table>
<script src="/board.js" type="module"></script>
</html>
`;

const board = (cells: string) => `const { PUBLIC_API, PIER } = await (await fetch('/settings.json')).json();
const { departures } = await (await fetch(PUBLIC_API + '/departures')).json();
document.querySelector('h1').append(' from ' + PIER);
const rows = document.getElementById('rows');
for (const one of departures) {
  const row = rows.insertRow();
  for (const text of [${cells}]) row.insertCell().textContent = text;
}
`;

const css = `body { font: 18px/1.5 sans-serif; margin: 3rem auto; max-width: 40rem; color: #12324a; }
h1 { font-size: 1.7rem; }
td { padding: .3rem 1.2rem .3rem 0; border-bottom: 1px solid #c9d8e2; }
`;

const test = (extra = '') => `import assert from 'node:assert/strict';
import { describe, it } from 'node:test';
import { arrival, departures } from '../src/timetable.js';

const day = ['12:30', '06:10', '17:20'].map((at) => ({ at, to: 'Mejima' }));

describe('departures', () => {
  it('lists sailings in order of departure', () => {
    const times = departures(day, '00:00').map((one) => one.at);
    assert.deepEqual(times, ['06:10', '12:30', '17:20']);
  });
  it('leaves out what has sailed', () => {
    assert.equal(departures(day, '12:00')[0].at, '12:30');
  });
  it('ends with the last sailing', () => {
    assert.deepEqual(departures(day, '23:00'), []);
  });
});

describe('arrival', () => {
  it('adds the time of the crossing', () => {
    assert.equal(arrival({ at: '07:40', to: 'Okinoshima' }), '08:50');
  });
  it('goes past midnight', () => {
    assert.equal(arrival({ at: '23:30', to: 'Mejima' }), '00:15');
  });
});
${extra}`;

const smoke = `// Asks the environment what a passenger would ask.
const base = process.env.TSUNAGI_ENVIRONMENT_URL;
const get = async (path) => {
  const answer = await fetch(base + path);
  if (answer.status !== 200) throw new Error(path + ' answered ' + answer.status);
  return answer;
};
const { departures } = await (await get('/api/departures')).json();
if (departures.length === 0) throw new Error('no departures');
const { release } = await (await get('/api/version')).json();
if (release !== process.env.TSUNAGI_RELEASE) throw new Error('it is ' + release + ' that answers, not ' + process.env.TSUNAGI_RELEASE);
if (!(await (await get('/')).text()).includes('Departures')) throw new Error('the page has no title');
console.log('3 requests, ' + departures.length + ' departures, ' + release);
`;

/** The first state of the app, then eleven changes. */
export const history: Change[] = [
  {
    title: 'Departures from the timetable',
    author: 'Mika',
    files: {
      'package.json': packageJson,
      'src/timetable.js': timetable(arrivals),
      'src/store.js': store,
      get 'src/driver.js'() {
        return driver();
      },
      'src/migrate.js': migrate,
      'src/scrub.js': scrub,
      'src/migrations/001-sailings.sql': table,
      'src/migrations/001-subscribers.sql': subscribers,
      'src/api.js': api(goodRow),
      'src/caller.js': caller,
      'src/digest.js': digest,
      'web/index.html': page('Departures'),
      'web/board.js': board('one.at, one.to'),
      'web/board.css': css,
      'web/build.js': build,
      'test/timetable.test.js': test(),
    },
  },
  {
    title: 'Say who we are',
    author: 'Mika',
    files: { 'README.md': '# sailings\n\nThe departures of Kohama Ferries.\n' },
  },
  {
    title: 'Keep the departure list on one screen',
    author: 'Ren',
    files: { 'web/board.css': css.replace('3rem auto', '1rem auto') },
  },
  {
    title: 'Show the ferry of each sailing',
    author: 'Ren',
    files: { 'web/board.js': board('one.at, one.to, one.ferry') },
  },
  { title: 'Check every environment with real requests', author: 'Aoi', files: { 'smoke/check.js': smoke } },
  { title: 'Define the pipeline', author: 'Aoi', files: { 'tsunagi.yaml': definition } },
  {
    title: 'Explain how to build',
    author: 'Mika',
    files: {
      'README.md':
        '# sailings\n\nThe departures of Kohama Ferries.\n\nBuild the page with `node web/build.js`, test with `node --test test/`.\n',
    },
  },
  { title: 'Larger type on the pier display', author: 'Ren', files: { 'web/board.css': css.replace('18px', '20px') } },
  {
    title: 'Fix the winter timetable',
    author: 'Aoi',
    files: { 'src/migrations/002-winter.sql': winter },
  },
];

/** What is pushed after the first release is in production. */
export const later: Change[] = [
  {
    title: 'Round arrival times to the minute',
    author: 'Ren',
    files: { 'web/board.js': board('one.at, one.to, one.ferry, one.arrives') },
  },
  {
    title: 'Tide warning text',
    author: 'Aoi',
    files: { 'src/tides.js': `export const warning = (height) => (height > 2.1 ? 'High tide: mind the ramp' : '');\n` },
  },
  {
    title: 'Test the tide warning',
    author: 'Aoi',
    files: {
      'test/tides.test.js': `import assert from 'node:assert/strict';\nimport { it } from 'node:test';\nimport { warning } from '../src/tides.js';\n\nit('warns of a high tide', () => assert.match(warning(2.4), /ramp/));\nit('is quiet otherwise', () => assert.equal(warning(1.2), ''));\n`,
    },
  },
];

/** A branch whose tests fail. */
export const failing: Change = {
  title: 'Show cancelled sailings in the day view',
  author: 'Ren',
  files: {
    'src/cancelled.js': `export const stateOf = (sailing) => (sailing.cancelled ? 'delayed' : 'on time');\n`,
    'test/cancelled.test.js': `import assert from 'node:assert/strict';\nimport { describe, it } from 'node:test';\nimport { stateOf } from '../src/cancelled.js';\n\ndescribe('day view', () => {\n  it('marks a cancelled sailing', () => assert.equal(stateOf({ cancelled: true }), 'cancelled'));\n  it('leaves the others alone', () => assert.equal(stateOf({}), 'on time'));\n});\n`,
  },
};

/** A pull request for reviewers to look at. */
export const proposal: Change = {
  title: 'Tide warning banner',
  author: 'Ren',
  files: { 'web/index.html': page('Departures and tides') },
};

/** A commit for a push while someone looks. */
export const greeting = (n: number): Change => ({
  title: `Greet the passengers of pier ${n}`,
  author: 'Mika',
  files: { 'web/index.html': page(`Departures, pier ${n}`) },
});

/** Passes its tests and is wrong all the same: every arrival is an hour late. */
export const wrong: Change = {
  title: 'Summer time for arrivals',
  author: 'Mika',
  files: {
    'src/api.js': api(
      `{ ...one, arrives: arrival({ ...one, at: String((Number(one.at.slice(0, 2)) + 1) % 24).padStart(2, '0') + one.at.slice(2) }) }`,
    ),
  },
};

/** Passes its tests, and fails one in twenty of those who ask when the next ferry leaves. */
export const erring: Change = {
  title: 'Round trips in the timetable',
  author: 'Aoi',
  files: {
    'src/api.js': api(goodRow)
      .replace('const serve = async', 'let asked = 0;\nconst serve = async')
      .replace(
        "  if (pathname === '/api/departures') {\n",
        "  if (pathname === '/api/departures') {\n    if (++asked % 20 === 0) throw new Error('the ferry has left');\n",
      ),
  },
};

/** The same without that mistake. */
export const mended: Change = {
  title: 'The ferry waits for those who ask',
  author: 'Aoi',
  files: { 'src/api.js': api(goodRow) },
};
