/** The main job, played without a person: each command is printed and run as a user would, and each answer is checked. */
import { spawn } from 'node:child_process';
import { mkdirSync } from 'node:fs';
import { request } from 'node:http';
import { request as secureRequest } from 'node:https';
import { join } from 'node:path';
import type { Cutover } from '../src/wire/environments/cutover.js';
import type { Environment } from '../src/wire/environments/environments.js';
import type { PictureList } from '../src/wire/environments/pictures.js';
import type { PageOf } from '../src/wire/parts.js';
import type { AddedToken } from '../src/wire/people.js';
import type { Project } from '../src/wire/projects.js';
import type { Run } from '../src/wire/runs.js';
import type { House } from '../src/cli/serve/serve.js';
import type { CodeHost } from './codehost/codehost.js';
import type { Mailbox } from './mailbox/mailbox.js';
import type { NameServer } from './nameserver/nameserver.js';
import { newcomerMended, newcomerName } from './scenario/newcomer.js';
import { berthPlannerMended } from './scenario/others.js';
import { erring, greeting, mended, proposal, wrong } from './scenario/sailings.js';
import { commit, git } from './scenario/write.js';
import { type DemoApi, until, untilLive } from './seed.js';

export interface TourOptions {
  house: House;
  codehost: CodeHost;
  names: NameServer;
  mailbox: Mailbox;
  api: DemoApi;
  root: string;
  /** Folder of the checkouts. */
  checkouts: string;
  home: string;
  say(text?: string): void;
}

/** True only if every answer was right. */
export async function tour({
  house,
  codehost,
  names,
  mailbox,
  api,
  root,
  checkouts,
  home,
  say,
}: TourOptions): Promise<boolean> {
  const checkout = join(checkouts, 'sailings');
  let wrongAnswers = 0;
  mkdirSync(home, { recursive: true });
  const act = (text: string) => say(`\n── ${text}`);
  const expect = (text: string, right: boolean) => {
    say(`   ${right ? 'right' : 'WRONG'}: ${text}`);
    if (!right) wrongAnswers++;
  };
  const command = async (line: string, expected = 0): Promise<string> => {
    say(`$ ${line}`);
    const { output, status } = await run(join(root, 'tsunagi'), line.split(' ').slice(1), checkout, {
      ...process.env,
      XDG_CONFIG_HOME: home,
      NO_COLOR: '1',
    });
    for (const text of output.trimEnd().split('\n').slice(-24)) say(`  ${text}`);
    if (status !== expected) expect(`exit status ${expected}, it was ${status}`, false);
    return output;
  };
  const push = async (branch: string) => {
    say(`$ git push origin ${branch}`);
    await git(checkout, 'push', '-q', 'origin', branch);
  };
  const look = async (host: string, path: string): Promise<string> => {
    const answer = await fetchHost(house.edgePort, host, path);
    say(`$ curl http://${host}:${house.edgePort}${path}`);
    say(`  ${answer.status} ${answer.text.slice(0, 160).replace(/\s+/g, ' ')}`);
    return answer.text;
  };
  const released = async (host: string) =>
    (JSON.parse(await look(host, '/api/version')) as { release: string }).release;
  const production = 'sailings-production.localhost';
  const staging = 'sailings-staging.localhost';

  act('Sign in, and see what is live where');
  await command(`tsunagi sign-in ${house.url} --token ${house.token}`);
  const board = await command('tsunagi board');
  expect(
    'the board names the three projects',
    ['sailings', 'berth-planner', 'tide-tables'].every((name) => board.includes(name)),
  );
  const before = await released(production);

  act('A commit is pushed; it is built and tested, becomes a release and goes to staging');
  const pushed = await commit(checkout, greeting(1), 2000);
  await push('main');
  const followed = await command('tsunagi follow');
  const made = /became (r\d+)/.exec(followed)?.[1] ?? '';
  expect(`the run passed and became a release (${made})`, made !== '' && followed.includes('passed'));
  await untilLive(api, 'sailings/staging', pushed);
  expect(`staging shows ${made}`, (await released(staging)) === made);
  expect('production still shows the release of before', (await released(production)) === before);
  const release = await command(`tsunagi release show ${made}`);
  expect('staging’s verification is part of the evidence', /verification\s+staging/.test(release));

  act('The same bytes are promoted to production');
  const unmet = await command(`tsunagi promote ${made} --to sailings/production --check`, 1);
  expect('what is missing is said', /approvals +needs +0 of 1 approval/.test(unmet));
  await command(`tsunagi approve ${made} --for sailings/production`);
  await command(`tsunagi promote ${made} --to sailings/production`);
  expect(`production shows ${made}`, (await released(production)) === made);
  const evidence = await command(`tsunagi release show ${made}`);
  expect(
    'who approved it, and how it did beside the old one, are evidence',
    /approval\s+production/.test(evidence) && /comparison\s+production/.test(evidence),
  );
  expect('and its page is the new one', (await look(production, '/')).includes('pier 1'));

  act(
    'A pull request’s life: opened, live with a copy of staging’s data, pictured, told of, pushed to, asleep, woken, merged, gone',
  );
  await git(checkout, 'checkout', '-q', '-b', 'quieter-horn');
  const proposed = await commit(
    checkout,
    {
      ...proposal,
      title: 'Quieter horn at night',
      files: { 'web/index.html': '<!doctype html>\n<title>Departures</title>\n<h1>Departures, quietly</h1>\n' },
    },
    2010,
  );
  await push('quieter-horn');
  const pull = await codehost.openPull('sailings', { title: 'Quieter horn at night', branch: 'quieter-horn' });
  const review = `pr-${pull.number}-sailings.review.localhost`;
  await untilLive(api, `sailings/pr-${pull.number}`, proposed);
  expect('the review shows the proposed page', (await look(review, '/')).includes('quietly'));
  const began = await command(`tsunagi resource show sailings/pr-${pull.number} timetable`);
  expect('its data began as a copy of staging’s', began.includes('began as a copy of staging'));
  const rows = JSON.stringify(
    await api.get(
      `/api/projects/sailings/environments/pr-${pull.number}/resources/timetable/rows?schema=public&table=subscribers`,
    ),
  );
  expect('in which nobody is called by their name', rows.includes('Passenger 1') && !rows.includes('Hoshino'));
  const told = await until(async () => {
    const text = codehost.comment('sailings', pull.number)?.text ?? '';
    return text.includes('Look at this change') ? text : null;
  }, 'the code host shows the comment');
  expect('the code host says where it is, and what differs', told.includes('Differs from staging: departures'));
  const reviewed = `sailings/pr-${pull.number}`;
  const { able } = await api.get<PictureList>(`/api/projects/sailings/environments/pr-${pull.number}/pictures`);
  if (able) {
    await until(async () => {
      const { items } = await api.get<PictureList>(`/api/projects/sailings/environments/pr-${pull.number}/pictures`);
      return items[0]?.state === 'taken';
    }, 'the review is pictured');
    const pictured = await command(`tsunagi environment pictures ${reviewed}`);
    expect(
      'its first page stands beside staging’s, and the heading differs',
      /beside staging[\s\S]*\n\/ +[\d.]+ %/.test(pictured),
    );
    const shown = await until(async () => {
      const text = codehost.comment('sailings', pull.number)?.text ?? '';
      return text.includes('What one sees differs from staging by') ? text : null;
    }, 'the code host shows the picture');
    const image = /!\[What changed\]\(([^)]+)\)/.exec(shown)?.[1] ?? '';
    const answer = await fetch(image);
    expect('and the code host shows the picture', answer.headers.get('content-type') === 'image/png');
  } else say('(No agent has Chromium here: no picture is taken.)');
  await git(checkout, 'checkout', '-q', 'quieter-horn');
  const pushedAgain = await commit(
    checkout,
    {
      ...proposal,
      title: 'Quieter still',
      files: { 'web/index.html': '<!doctype html>\n<title>Departures</title>\n<h1>Departures, in silence</h1>\n' },
    },
    2011,
  );
  await push('quieter-horn');
  await untilLive(api, reviewed, pushedAgain);
  expect('a push is followed', (await look(review, '/')).includes('in silence'));
  const slept = await command(`tsunagi review sleep sailings/pr-${pull.number}`);
  expect('it sleeps when somebody says so', slept.includes('is asleep'));
  const departures = await look(review, '/api/departures');
  expect('a request wakes it, and is answered', departures.includes('"departures"'));
  expect('it is awake then', (await command('tsunagi review list --project sailings')).includes('sleeps in'));
  await git(checkout, 'checkout', '-q', 'main');
  await git(
    checkout,
    '-c',
    'user.name=Ren',
    '-c',
    'user.email=ren@kohama.example',
    'merge',
    '-q',
    '--no-ff',
    '-m',
    'Merge quieter-horn',
    'quieter-horn',
  );
  const merged = await git(checkout, 'rev-parse', 'HEAD');
  await push('main');
  await codehost.closePull('sailings', pull.number, 'merged');
  await until(async () => (await fetchHost(house.edgePort, review, '/')).status === 404, 'the review is gone');
  expect('the review’s address answers no more', (await look(review, '/')).includes('No environment'));
  await untilLive(api, 'sailings/staging', merged);
  expect('and staging shows what was merged', (await look(staging, '/')).includes('in silence'));

  act('A push fails; the reason is said; it is fixed, and what has passed is not done again');
  const night = (hour: string) =>
    `import assert from 'node:assert/strict';\nimport { test } from 'node:test';\n\ntest('the night ferry leaves before midnight', () => {\n  assert.ok('${hour}' < '24:00' && '${hour}' > '22:00');\n});\n`;
  const rehearsed = await command('tsunagi rehearse unit');
  expect(
    'the working copy’s tests pass here, with no service',
    /passed|reused/.test(rehearsed) && !rehearsed.includes('failed'),
  );
  await git(checkout, 'checkout', '-q', '-b', 'night-ferry');
  await commit(
    checkout,
    { ...proposal, title: 'The night ferry', files: { 'test/night.test.js': night('21:40') } },
    2012,
  );
  await push('night-ferry');
  await untilRuns(api, 'night-ferry', 1);
  const failing = await command('tsunagi follow', 1);
  const bad = /run (\d+)/.exec(failing)?.[1] ?? '';
  const why = await command(`tsunagi why run ${bad}`);
  expect('the failing test is named, as a new one', why.includes('the night ferry leaves before midnight (new)'));
  expect('and the commit that came since the last pass', why.includes('The night ferry'));
  await commit(
    checkout,
    { ...proposal, title: 'The night ferry, at ten past eleven', files: { 'test/night.test.js': night('23:10') } },
    2013,
  );
  await push('night-ferry');
  await untilRuns(api, 'night-ferry', 2);
  const fixed = await command('tsunagi follow');
  const good = /run (\d+)/.exec(fixed)?.[1] ?? '';
  const shown = await command(`tsunagi run show ${good}`);
  expect(
    'the tests ran, and what they do not touch was reused',
    /unit +passed/.test(shown) && /web +reused/.test(shown),
  );
  expect(
    'the first input that differs is named',
    (await command(`tsunagi why task unit --run ${good}`)).includes('test/night.test.js'),
  );
  await command(`tsunagi run again ${good}`);
  const again = await command('tsunagi follow');
  expect('the same commit again reuses all of it', again.includes('passed'));
  await git(checkout, 'checkout', '-q', 'main');

  act('A wrong release is promoted: its tests pass, every arrival is an hour late');
  const mistaken = await commit(checkout, wrong, 2020);
  await push('main');
  const second = /became (r\d+)/.exec(await command('tsunagi follow'))?.[1] ?? '';
  await untilLive(api, 'sailings/staging', mistaken);
  await command(`tsunagi approve ${second} --for sailings/production`);
  await command(`tsunagi promote ${second} --to sailings/production`);
  expect(`production shows ${second}`, (await released(production)) === second);
  expect(
    'and a wrong arrival',
    (await look(production, '/api/departures')).includes(
      '"at":"06:10","to":"Mejima","ferry":"Hamakaze","arrives":"07:55"',
    ),
  );

  act('Revert: one command, and the environment is on hold');
  const ahead = await command('tsunagi revert sailings/production --dry-run');
  expect('what it can’t undo is said before', ahead.includes('data that was written since'));
  await command('tsunagi revert sailings/production');
  expect(`production shows ${made} again`, (await released(production)) === made);
  expect(
    'and the right arrival',
    (await look(production, '/api/departures')).includes(
      '"at":"06:10","to":"Mejima","ferry":"Hamakaze","arrives":"06:55"',
    ),
  );
  expect('the board says that it is on hold', (await command('tsunagi board')).includes('on hold'));
  const refused = await command(`tsunagi promote ${second} --to sailings/production`, 1);
  expect('a promotion is refused in words', refused.includes('on hold'));
  await command('tsunagi lift sailings/production');

  act(
    'A release that passes all its tests and fails one request in twenty: caught in its first share, and taken back by itself',
  );
  const erred = await commit(checkout, erring, 2030);
  await push('main');
  const third = /became (r\d+)/.exec(await command('tsunagi follow'))?.[1] ?? '';
  await untilLive(api, 'sailings/staging', erred);
  await command(`tsunagi approve ${third} --for sailings/production`);
  await command(`tsunagi promote ${third} --to sailings/production --no-wait`);
  await until(async () => {
    const way = await api.get<Cutover>('/api/projects/sailings/environments/production/cutover').catch(() => null);
    return way?.share === 0.2 ? way : null;
  }, 'the first share');
  const passengers = ask(() => fetchHost(house.edgePort, production, '/api/departures'));
  await command('tsunagi cutover sailings/production');
  const caught = await until(async () => {
    const { failed } = await api.get<Environment>('/api/projects/sailings/environments/production');
    return failed?.failure?.says ?? null;
  }, 'it is taken back');
  const { asked: requests, errors } = await passengers.stop();
  say(`  ${caught}`);
  expect('it says which figure it was, of which part, beside what', /errors of api/.test(caught));
  expect(`of ${requests} requests ${errors} met an error`, errors < requests / 20);
  expect(`production shows ${made}`, (await released(production)) === made);
  await command('tsunagi lift sailings/production');

  act('Three projects go together: all at one moment, or none of them');
  const right = await commit(checkout, mended, 2040);
  await push('main');
  const fourth = /became (r\d+)/.exec(await command('tsunagi follow'))?.[1] ?? '';
  await untilLive(api, 'sailings/staging', right);
  const berths = join(checkouts, 'berth-planner');
  const berthsMended = await commit(berths, berthPlannerMended, 2041);
  const { endpoint } = await api.get<Project>('/api/projects/berth-planner');
  const { token } = await api.post<AddedToken>('/api/tokens', { name: 'tour', role: 'developer', days: 1 });
  say('$ git -C berth-planner push origin main');
  await git(berths, 'push', '-q', endpoint.replace('//', `//tour:${token}@`), 'main');
  await untilLive(api, 'berth-planner/staging', berthsMended);
  const three = 'sailings berth-planner tide-tables --to production --together';
  const held = await command(`tsunagi promote ${three}`, 1);
  expect('one may not go yet, so none is asked for', held.includes('approval'));
  await command(`tsunagi approve ${fourth} --for sailings/production`);
  const together = await command(`tsunagi promote ${three}`);
  expect('all three are live', together.includes('sailings, berth-planner and tide-tables went live together'));
  expect(`production shows ${fourth}`, (await released(production)) === fourth);
  expect('and the others theirs', (await look('berth-planner-production.localhost', '/')).includes('Tobiuo'));
  const joint = /(j\d+):/.exec(together)?.[1] ?? 'j1';
  await command(`tsunagi revert ${joint}`);
  expect('one word takes all three back', (await released(production)) === made);
  for (const name of ['sailings', 'berth-planner', 'tide-tables']) await command(`tsunagi lift ${name}/production`);

  act('How delivery goes, and who did what');
  const delivered = await until(async () => {
    const shown = await command('tsunagi metrics --weeks 4');
    return shown.includes('more unseen') || /failed +\d+ %/.test(shown) ? shown : null;
  }, 'what has ended is counted');
  expect('deployments, what failed, and what was reused are counted', /reused +\d+ % of tasks/.test(delivered));
  expect(
    'who took what back is kept',
    (await command('tsunagi events --people --type together.returned')).includes('owner'),
  );

  act('An environment: its database, fresh programs, more of them, figures');
  const stocked = await command('tsunagi resource show sailings/production timetable');
  expect(
    'production has a database of its own, opened by its programs',
    stocked.includes('· ready ·') && stocked.includes('its programs'),
  );
  await command('tsunagi resource backup sailings/production timetable');
  await command('tsunagi resource restore sailings/staging timetable --backup 1 --from sailings/production --yes');
  expect('staging answers from production’s backup', (await look(staging, '/api/departures')).includes('Tateshima'));
  await command('tsunagi resource rotate sailings/production timetable');
  await command('tsunagi restart sailings/staging --part api');
  await command('tsunagi scale sailings/production --part api --instances 3 --memory 256M');
  const grown = await command('tsunagi environment show sailings/production');
  expect('three instances answer', /api 3 +ready/.test(grown) && (await released(production)) === made);
  await command('tsunagi scale sailings/production --part api --reset');
  const counted = await until(async () => {
    const shown = await command('tsunagi metrics sailings/production --part api');
    return /api +[\d.]+\/s/.test(shown) ? shown : null;
  }, 'figures of production');
  expect('what was answered is counted', counted.includes('P95'));

  act('A job: every morning at five, and now by hand');
  const jobs = await command('tsunagi job list sailings/production');
  expect('it says when it runs next', /digest +05:00 Asia\/Tokyo +\d{4}-/.test(jobs));
  const digest = await command('tsunagi job run sailings/production digest');
  expect('it reads the timetable, and passes', digest.includes('Mejima: ') && digest.includes('passed'));

  act('A volume: what the job wrote outlives every deployment, and is brought back from a backup');
  const day = new Date().toISOString().slice(0, 10);
  expect('the API reads what the job wrote', (await look(production, `/api/reports/${day}`)).includes('Mejima: '));
  const kept = await command('tsunagi resource show sailings/production reports');
  expect('it says where it is, and how full', /reports, on the machine of agent-1/.test(kept) && /% full/.test(kept));
  const copied = /Backup (\d+)/.exec(await command('tsunagi resource backup sailings/production reports'))?.[1];
  await command(
    `tsunagi resource restore sailings/staging reports --backup ${copied} --from sailings/production --yes`,
  );
  await until(
    async () => ((await look(staging, '/api/reports').catch(() => '')).includes(day) ? true : null),
    'the reports of production in staging',
  );

  act('Hands inside: one command, and a shell beside a running program');
  const inside = await command('tsunagi exec sailings/staging -- node -p process.env.TSUNAGI_RELEASE');
  expect('it has what the programs have', inside.trim() === (await released(staging)));
  say('$ tsunagi shell sailings/staging --in api.1');
  const typed = await typeInto(
    join(root, 'tsunagi shell sailings/staging --in api.1'),
    ['ps -eo args | grep "^node"', 'exit 3'],
    {
      ...process.env,
      XDG_CONFIG_HOME: home,
    },
  );
  for (const text of typed.output.trimEnd().split('\n')) say(`  ${text}`);
  expect('a real terminal, beside the program that serves', typed.output.includes('\nnode ') && typed.status === 3);
  const within = await command('tsunagi shell sailings/staging --list');
  expect('who was inside is kept', /owner +api\.1 +a shell .*exit 3/.test(within));

  act('A name of its own: proven by a record, certified, answered under TLS');
  const wanted = await command('tsunagi address add sailings/staging timetable.kohama.example');
  const value = /should say “(.+?)”/.exec(wanted)?.[1] ?? '';
  expect('the record that proves it is named, with what was found', wanted.includes('found was no such record'));
  names.set('_tsunagi.timetable.kohama.example', { TXT: [value] });
  say(`  (whoever keeps the names of kohama.example sets it: TXT ${value})`);
  const certified = await command('tsunagi address check sailings/staging timetable.kohama.example');
  expect('it is certified', certified.includes('is certified'));
  const authority = await (await fetch(`${house.url}/api/authority`)).text();
  const safely = await until(
    () => fetchSecurely(house.ports.tls, 'timetable.kohama.example', '/api/version', authority).catch(() => null),
    'the edge has the certificate',
  );
  say(`$ curl --cacert authority.pem https://timetable.kohama.example:${house.ports.tls}/api/version`);
  say(`  ${safely.status} ${safely.text.slice(0, 160)}`);
  expect('and answered under TLS', safely.status === 200);

  act('A beginning: a page, its API and a database, live in one step');
  await command('tsunagi project new pier-notes --from site-and-api');
  expect('it answers', (await look('pier-notes-staging.localhost', '/')).includes('pier-notes'));

  act('A newcomer’s first five minutes: a repository without a definition');
  const place = join(checkouts, newcomerName);
  const tried = await command(
    `tsunagi project add ${newcomerName} --from ${codehost.url}/${newcomerName}.git --allow-private --yes`,
    1,
  );
  expect(
    'what is in it is recognised, and its port is noticed',
    tried.includes('Node with npm') && tried.includes('listens on port 3000, whatever PORT says'),
  );
  expect('the first try fails, and says why', /web listens on 3000, it was given PORT=\d+/.test(tried));
  const mail = await until(
    // Another one that begins or ends in the same moment stands in the same mail.
    async () => mailbox.all().find((one) => one.subject.startsWith(`${newcomerName}/staging: a deployment failed`)),
    'the mail',
  );
  say(`  (a mail came: ${mail.subject})`);
  expect('and whoever is on call has a mail with the cause', mail.text.includes('listens on 3000'));
  const alerted = await command('tsunagi alert list');
  expect('it is among what is wrong', alerted.includes(`${newcomerName}/staging`));
  const mendedCommit = await commit(place, newcomerMended, 2030);
  say(`$ git -C ${newcomerName} push origin main`);
  await git(place, 'push', '-q', 'origin', 'main');
  await command(`tsunagi project fetch --project ${newcomerName}`);
  await untilLive(api, `${newcomerName}/staging`, mendedCommit);
  expect('the fixed one is live', (await look(`${newcomerName}-staging.localhost`, '/')).includes('left glove'));
  await command(`tsunagi variable set OFFICE=Mejima --for ${newcomerName}/staging`);
  const waiting = await command(`tsunagi environment show ${newcomerName}/staging`);
  expect('a changed variable waits for the next deployment', waiting.includes('1 change waits: OFFICE'));
  await command(`tsunagi deploy ${/deploy (r\d+)/.exec(waiting)?.[1] ?? 'r1'} --to ${newcomerName}/staging`);
  expect('and takes effect', (await look(`${newcomerName}-staging.localhost`, '/')).includes('Mejima'));

  say(wrongAnswers === 0 ? '\nEvery answer was right.' : `\n${wrongAnswers} answers were wrong.`);
  return wrongAnswers === 0;
}

/** Waits until the service knows of so many runs of a branch. */
const untilRuns = (api: DemoApi, branch: string, count: number) =>
  until(
    async () => (await api.get<PageOf<Run>>(`/api/runs?project=sailings&branch=${branch}`)).items.length >= count,
    `run ${count} of ${branch}`,
  );

function run(
  file: string,
  args: string[],
  cwd: string,
  env: NodeJS.ProcessEnv,
): Promise<{ output: string; status: number | null }> {
  return new Promise((resolve, reject) => {
    const child = spawn(file, args, { cwd, env, stdio: ['ignore', 'pipe', 'pipe'] });
    let output = '';
    for (const stream of [child.stdout, child.stderr])
      stream.on('data', (chunk: Buffer) => (output += chunk.toString('utf8')));
    child.on('error', reject);
    child.on('close', (status) => resolve({ output, status }));
  });
}

/** Types lines into a command that has a terminal, each when the prompt of before is there. */
function typeInto(
  line: string,
  lines: readonly string[],
  env: NodeJS.ProcessEnv,
): Promise<{ output: string; status: number | null }> {
  return new Promise((resolve, reject) => {
    const child = spawn('script', ['-qef', '-c', `stty columns 100; exec ${line}`, '/dev/null'], {
      env: { ...env, SHELL: '/bin/sh', TERM: 'dumb' },
      stdio: ['pipe', 'pipe', 'ignore'],
    });
    let output = '';
    let seen = 0;
    const left = [...lines];
    child.stdout.on('data', (chunk: Buffer) => {
      output += chunk.toString('utf8').replaceAll('\r', '');
      if (!/\$ $/.test(output.slice(seen))) return;
      seen = output.length;
      const next = left.shift();
      if (next !== undefined) child.stdin.write(`${next}\r`);
    });
    child.on('error', reject);
    child.on('close', (status) => resolve({ output, status }));
  });
}

/** Over TLS, trusting one authority alone. */
function fetchSecurely(
  port: number,
  host: string,
  path: string,
  ca: string,
): Promise<{ status: number; text: string }> {
  return new Promise((resolve, reject) => {
    secureRequest({ host: '127.0.0.1', port, path, servername: host, ca, headers: { host } }, (answer) => {
      const parts: Buffer[] = [];
      answer.on('data', (chunk: Buffer) => parts.push(chunk));
      answer.on('end', () => resolve({ status: answer.statusCode ?? 0, text: Buffer.concat(parts).toString('utf8') }));
    })
      .on('error', reject)
      .end();
  });
}

/** Node's resolver does not know names below .localhost; the edge goes by the Host header. */
export function fetchHost(port: number, host: string, path: string): Promise<{ status: number; text: string }> {
  return new Promise((resolve, reject) => {
    const call = request(
      { host: '127.0.0.1', port, path, headers: { host: `${host}:${port}` }, agent: false },
      (answer) => {
        const parts: Buffer[] = [];
        answer.on('data', (chunk: Buffer) => parts.push(chunk));
        answer.on('end', () =>
          resolve({ status: answer.statusCode ?? 0, text: Buffer.concat(parts).toString('utf8') }),
        );
      },
    );
    call.on('error', reject);
    call.end();
  });
}

/** Asks again and again, a few at a time, until it is stopped; gives what came of it. */
function ask(one: () => Promise<{ status: number }>): { stop(): Promise<{ asked: number; errors: number }> } {
  let [asked, errors, going] = [0, 0, true];
  const someone = async () => {
    while (going) {
      const { status } = await one();
      asked++;
      if (status >= 500) errors++;
      await new Promise((resolve) => setTimeout(resolve, 5));
    }
  };
  const all = Promise.all([someone(), someone(), someone(), someone()]);
  return {
    async stop() {
      going = false;
      await all;
      return { asked, errors };
    },
  };
}
