import { execFileSync } from 'node:child_process';
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createHash } from 'node:crypto';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { app, appDefinition, type Checkout, openWorld, until, type World } from './world.js';

let world: World;
beforeAll(async () => {
  world = await openWorld();
});
afterAll(() => world?.close());

describe('from a push to production and back', () => {
  let checkout: Checkout;
  let first: string;
  let second: string;
  const text = async (environment: string) =>
    JSON.parse((await world.visit(`shop-${environment}.localhost`, '/api')).text).text as string;

  beforeAll(async () => {
    ({ checkout, first } = await world.hosted('shop', { ...app('one'), 'tsunagi.yaml': appDefinition }));
    await checkout.push();
    await world.waitLive('shop', 'staging', first);
  });

  it('builds, tests, releases and verifies a pushed commit by itself', async () => {
    const run = await world.waitRun('shop', first);
    expect(run).toMatchObject({
      state: 'passed',
      release: 1,
      branch: 'main',
      taskList: [{ name: 'unit', state: 'passed', files: 1 }],
    });
    const staging = await world.environment('shop', 'staging');
    expect(staging).toMatchObject({
      health: 'good',
      verified: true,
      instances: { asked: 3, ready: 3 },
      live: { release: 1, kind: 'automatic', state: 'live' },
    });
    expect(await text('staging')).toBe('one');
    expect((await world.visit('shop-staging.localhost')).text).toContain('<h1>one</h1>');
  });

  it('promotes the same bytes, with evidence that refers to their digest', async () => {
    expect((await world.visit('shop-production.localhost')).status).toBe(404);
    const { status, out } = await world.cli('promote', '--to', 'shop/production');
    expect([status, out]).toEqual([0, expect.stringContaining('live')]);
    expect(await text('production')).toBe('one');
    const release = await world.release('shop', 1);
    expect(release.evidence.map((one) => [one.kind, one.name, one.digest])).toEqual([
      ['task', 'unit', release.digest],
      ['verification', 'staging', release.digest],
    ]);
    const [staging, production] = await Promise.all([
      world.environment('shop', 'staging'),
      world.environment('shop', 'production'),
    ]);
    expect(production.parts).toEqual(staging.parts);
  });

  it('exports a release as an OCI image layout whose every blob is its digest', async () => {
    const answer = await fetch(`${world.url}/api/projects/shop/releases/1/image`, {
      headers: { authorization: `Bearer ${world.house.token}` },
    });
    const folder = join(world.folder, 'image');
    mkdirSync(folder);
    writeFileSync(join(folder, 'image.tar'), Buffer.from(await answer.arrayBuffer()));
    execFileSync('tar', ['-xf', 'image.tar'], { cwd: folder });
    const index = JSON.parse(readFileSync(join(folder, 'index.json'), 'utf8'));
    expect(index.manifests[0].digest).toBe((await world.release('shop', 1)).digest);
    const blobs = readdirSync(join(folder, 'blobs/sha256'));
    for (const name of blobs)
      expect(
        createHash('sha256')
          .update(readFileSync(join(folder, 'blobs/sha256', name)))
          .digest('hex'),
      ).toBe(name);
    const release = JSON.parse(readFileSync(join(folder, 'blobs/sha256', index.manifests[0].digest.slice(7)), 'utf8'));
    for (const part of release.manifests)
      for (const layer of JSON.parse(readFileSync(join(folder, 'blobs/sha256', part.digest.slice(7)), 'utf8')).layers)
        expect(blobs).toContain(layer.digest.slice(7));
  });

  it('reverts to warm servers, holds, refuses while held, and lifts', async () => {
    second = await checkout.commitAndPush(app('two'), 'Second');
    await world.waitLive('shop', 'staging', second);
    await world.cli('promote', 'r2', '--to', 'shop/production');
    expect(await text('production')).toBe('two');
    const warm = (await world.environment('shop', 'production')).history.find((one) => one.release === 1);
    expect(warm).toMatchObject({ state: 'replaced', warmUntil: expect.any(String) });
    const before = (await world.environment('shop', 'production')).instanceList
      .filter((one) => one.part === 'api' && one.deployment === warm?.number)
      .map((one) => one.id);

    const reverted = await world.act('shop', 'production', { kind: 'revert' });
    await world.waitDeployment('shop', reverted.number);
    expect(await text('production')).toBe('one');
    const now = await world.environment('shop', 'production');
    expect(now).toMatchObject({
      held: { by: 'owner' },
      live: { release: 1, kind: 'revert' },
      revertsTo: null,
      undo: true,
    });
    expect(now.history.find((one) => one.release === 2)?.state).toBe('reverted');
    // The servers that were warm are the ones that answer again; nothing was started anew.
    expect(
      now.instanceList
        .filter((one) => one.part === 'api' && one.state === 'ready' && one.deployment === reverted.number)
        .map((one) => one.id)
        .sort(),
    ).toEqual([...before].sort());
    expect(now.instanceList.filter((one) => one.kind === 'worker' && one.state === 'ready' && one.wanted)).toHaveLength(
      1,
    );

    const refused = await world.cli('promote', 'r2', '--to', 'shop/production');
    expect([refused.status, refused.err]).toEqual([
      1,
      expect.stringMatching(/on hold: reverted from r2 to r1 \(owner\).*\n.*tsunagi lift shop\/production/),
    ]);
    expect((await world.cli('lift', 'shop/production')).status).toBe(0);
    expect((await world.cli('lift', 'shop/production')).err).toContain('is not on hold');
  });

  it('leaves the old one serving when the new one does not get ready, and says why', async () => {
    const broken = await checkout.commitAndPush(
      { 'server.js': "import { createServer } from 'node:http';\ncreateServer((q, a) => a.end()).listen(8123);\n" },
      'Listens elsewhere',
    );
    const run = await world.waitRun('shop', broken);
    const failed = await until(
      'the failed deployment',
      async () => (await world.environment('shop', 'staging')).failed,
    );
    expect(failed).toMatchObject({
      release: run.release,
      failure: { code: 'listens_elsewhere', says: expect.stringContaining('api listens on 8123, it was given PORT=') },
    });
    expect(await text('staging')).toBe('two');
    expect(await world.environment('shop', 'staging')).toMatchObject({ health: 'good', live: { release: 2 } });
  });

  it('brings traffic and workers back when verify fails', async () => {
    await checkout.commitAndPush(
      { ...app('three'), 'check.js': "throw new Error('the price is too high');\n" },
      'Fails its verify',
    );
    const failed = await until('the failed deployment', async () => {
      const one = (await world.environment('shop', 'staging')).failed;
      return one?.failure?.code === 'verify_failed' ? one : null;
    });
    expect(failed.failure?.says).toContain('node check.js');
    expect(await text('staging')).toBe('two');
    const workers = await until('the old worker works again', async () => {
      const list = (await world.environment('shop', 'staging')).instanceList.filter(
        (one) => one.kind === 'worker' && one.state === 'ready',
      );
      return list.length > 0 && list;
    });
    expect(workers).toMatchObject([{ wanted: true }]);
    const refused = await world.cli('promote', `r${failed.release}`, '--to', 'shop/production');
    expect([refused.status, refused.err]).toEqual([1, expect.stringContaining('not verified in staging')]);
  });

  it('starts an instance that ended by itself again', async () => {
    const production = await world.environment('shop', 'production');
    const one = production.instanceList.find(
      (item) => item.part === 'api' && item.state === 'ready' && item.deployment === production.live?.number,
    );
    const folder = join(world.folder, 'house/agent/live', one?.id as string);
    process.kill(JSON.parse(readFileSync(join(folder, 'state.json'), 'utf8')).keeper, 'SIGKILL');
    const again = await until('another instance', async () => {
      const now = await world.environment('shop', 'production');
      const found = now.instanceList.find(
        (item) => item.part === 'api' && item.position === one?.position && item.restarts > 0 && item.state === 'ready',
      );
      if (now.health === 'good' && found) return found;
      // What is there instead is what one wants to know when this was in vain.
      throw new Error(
        `${now.health}: ${JSON.stringify(now.instanceList.map((item) => [item.part, item.position, item.deployment, item.state, item.restarts, item.issue?.says]))}`,
      );
    });
    expect(again.id).not.toBe(one?.id);
    for (let n = 0; n < 6; n++) expect(await text('production')).toBe('one');
  });

  it('shows what programs print', async () => {
    const { out, status } = await world.cli('logs', 'shop/production', '--part', 'bell');
    expect([status, out]).toEqual([0, expect.stringMatching(/worker of r1[\s\S]*tick/)]);
  });

  it('gives the same facts as JSON', async () => {
    for (const line of [
      'board',
      'run list',
      'release list --project shop',
      'release show r1 --project shop',
      'run show 1 --project shop',
      'events',
      'project list',
      'agent list',
      'token list',
      'environment show shop/production',
      'check --help',
    ]) {
      const { out, status } = await world.cli(...line.split(' '), ...(line.includes('--help') ? [] : ['--json']));
      expect(status).toBe(0);
      if (!line.includes('--help')) expect(typeof JSON.parse(out)).toBe('object');
    }
  });

  it('finds the project of the checkout one stands in', async () => {
    const { cli } = await import('./world.js');
    const env = { TSUNAGI_URL: world.url, TSUNAGI_TOKEN: world.house.token };
    expect((await cli(['release', 'list'], env, checkout.folder)).out).toContain('r1');
    const lost = await cli(['release', 'list'], env, '/');
    expect([lost.status, lost.err]).toEqual([2, expect.stringContaining('--project NAME')]);
  });

  it('exits 3 when the service cannot be reached, 2 when used wrongly', async () => {
    const { cli } = await import('./world.js');
    const away = await cli(['board'], { TSUNAGI_URL: 'http://127.0.0.1:9', TSUNAGI_TOKEN: 'x' });
    expect([away.status, away.err]).toEqual([3, expect.stringContaining('does not answer')]);
    expect((await cli(['bord'])).status).toBe(2);
    expect((await cli(['deploy', 'r1'])).err).toContain("required option '--to <environment>' not specified");
    expect((await cli(['board'])).err).toContain('tsunagi sign-in');
  });
});

describe('tasks', () => {
  const definition = (tasks: string) => `tsunagi: 1\ntasks:\n${tasks}`;
  let checkout: Checkout;
  const perform = async (tasks: string, files: Record<string, string> = {}) => {
    const commit = await checkout.commitAndPush({ 'tsunagi.yaml': definition(tasks), ...files }, 'Tasks');
    return world.waitRun('tasks', commit);
  };
  beforeAll(async () => {
    ({ checkout } = await world.hosted('tasks', {
      'tsunagi.yaml': definition('  a: { run: "true" }\n'),
      'secret.txt': 'not declared\n',
      'src/a.txt': 'a\n',
      'run.sh': '#!/bin/sh\necho ran\n',
    }));
    await checkout.push();
  });

  it('see the files they read, the outputs of their needs, their variables, and nothing else', async () => {
    const run = await perform(`  make:
    reads: [src/]
    run: mkdir -p out/deep && cp src/a.txt out/deep/b.txt && ln -s deep/b.txt out/link && echo '#!/bin/sh' > out/tool && chmod +x out/tool
    makes: [out/]
  look:
    needs: [make]
    reads: []
    variables: { GREETING: "it's $HOME" }
    run:
      - find . -mindepth 1 | sort
      - cat out/link; test -x out/tool; echo changed > out/deep/b.txt; rm out/tool
      - env | sort | grep -vE '^(_|SHLVL|PWD|OLDPWD)='
      - id -u; ls /root /etc/shadow /home 2>&1 || true; ls /proc | grep -c '^[0-9]'
      - "tail -n +3 /proc/net/dev | cut -d: -f1"
`);
    const look = run.taskList.find((task) => task.name === 'look');
    const text = await world.log(look?.attempts[0]?.id as string);
    expect(run.state).toBe('passed');
    expect(text).toContain(
      "./out/deep/b.txt\n./out/link\n./out/tool\na\nCI=true\nGREETING=it's $HOME\nHOME=/home/tsunagi\nPATH=/usr/local/bin:/usr/bin:/bin\nTMPDIR=/tmp\n1000\n",
    );
    expect(text).not.toContain('secret.txt');
    expect(text).toMatch(/cannot access '\/root'|cannot open directory '\/root'/);
    expect(text).toMatch(/cannot access '\/etc\/shadow'/);
    expect(text.trimEnd().split('\n').at(-1)?.trim()).toBe('lo');
    expect(look?.attempts[0]?.commands.map((command) => [command.state, command.exit])).toEqual([
      ['passed', 0],
      ['passed', 0],
      ['passed', 0],
      ['passed', 0],
      ['passed', 0],
    ]);
  });

  it('make the same output from the same bytes', async () => {
    const make =
      '  make: { reads: [src/], run: mkdir out && cp src/a.txt out/x && sleep 0.$((RANDOM % 3)), makes: [out/] }\n';
    const one = await perform(make, { 'note.txt': '1' });
    const two = await perform(make, { 'note.txt': '2' });
    expect(one.taskList[0]?.output).toEqual(two.taskList[0]?.output);
    expect(one.taskList[0]?.fingerprint).toBe(two.taskList[0]?.fingerprint);
  });

  it('say in words why they failed', async () => {
    const run = await perform(`  exits: { run: [echo before, "echo bad >&2; exit 3", echo never] }
  killed: { run: kill -9 $$ }
  slow: { run: sleep 60, timeout: 1s }
  nothing: { run: "true", makes: [out/] }
  results: { run: "true", results: out.xml }
  wrong: { run: "echo no > out.xml", results: out.xml }
  pipe: { run: "false | cat" }
  needs: { needs: [exits], run: "true" }
`);
    const of = (name: string) => run.taskList.find((task) => task.name === name);
    expect(run.state).toBe('failed');
    expect(Object.fromEntries(run.taskList.map((task) => [task.name, task.issue?.code ?? task.state]))).toEqual({
      exits: 'command_failed',
      killed: 'command_killed',
      slow: 'task_timeout',
      nothing: 'output_missing',
      results: 'results_missing',
      wrong: 'results_unreadable',
      pipe: 'command_failed',
      needs: 'skipped',
    });
    expect(of('exits')?.attempts[0]?.commands.map((command) => command.exit)).toEqual([0, 3]);
    expect(await world.log(of('exits')?.attempts[0]?.id as string)).toBe('before\nbad\n');
  });

  it('tell their tests as TAP, and how much of what a change touches is covered', async () => {
    const covered = (lines: string[]) =>
      `printf '%s\\n' SF:src/a.js ${lines.map((one) => `DA:${one}`).join(' ')} end_of_record > cov.info`;
    const task = (name: string, lines: string[]) =>
      `  ${name}: { run: ["${covered(lines)}", "printf 'TAP version 13\\n1..1\\nok 1 - fine\\n' > out.tap"], results: out.tap, coverage: cov.info }\n`;
    await checkout.commitAndPush({
      'src/a.js': 'one\ntwo\nthree\n',
      'tsunagi.yaml': definition('  none: { run: "true" }\n'),
    });
    const commit = await checkout.commitAndPush({
      'src/a.js': 'one\n2\n3\nfour\n',
      'tsunagi.yaml': definition(
        `${task('unit', ['1,1', '2,1', '3,0', '4,0'])}  gone: { run: "true", coverage: cov.info }\n  bad: { run: "echo no > cov.info", coverage: cov.info }\n`,
      ),
    });
    const run = await world.waitRun('tasks', commit);
    expect(run.taskList.map((one) => [one.name, one.state, one.issue?.code, one.tests?.passed])).toEqual([
      ['unit', 'passed', undefined, 1],
      ['gone', 'failed', 'coverage_missing', undefined],
      ['bad', 'failed', 'coverage_unreadable', undefined],
    ]);
    const { out } = await world.cli('run', 'show', String(run.number), '--project', 'tasks');
    expect(out).toContain('unit covers 2 of 4 lines (50 %), 1 of 3 lines (33 %) of what the change touches.');
    expect(out).toContain('src/a.js not run: 3-4');
    const json = await world.cli('run', 'show', String(run.number), '--project', 'tasks', '--json');
    expect(JSON.parse(json.out).coverage.tasks).toEqual([
      {
        task: 'unit',
        found: 4,
        hit: 2,
        changed: { found: 3, hit: 1, files: [{ path: 'src/a.js', hit: '2', missed: '3-4' }] },
      },
    ]);
  });

  it('hand text to the shell unchanged, whatever it holds', async () => {
    const run = await perform(
      "  quote: { run: \"echo \\\"a b\\\" 'c' `echo d` $((1+1)) > 'o u t'; cat 'o u t'; echo é\" }\n",
    );
    expect(await world.log(run.taskList[0]?.attempts[0]?.id as string)).toBe('a b c d 2\né\n');
  });

  it('are stopped by a person with every process, also one that ignores TERM', async () => {
    const commit = await checkout.commitAndPush(
      {
        'tsunagi.yaml': definition(
          `  stuck:\n    run: "(trap '' TERM; setsid sleep 987654 & sleep 987654) & echo started; wait"\n`,
        ),
      },
      'Stuck',
    );
    const run = await until('the run runs', async () =>
      (
        await world
          .api()
          .get<{ items: { number: number; commit: { id: string }; state: string }[] }>('/api/runs?project=tasks')
      ).items.find((one) => one.commit.id === commit && one.state === 'running'),
    );
    const sleeping = () =>
      execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' })
        .split('\n')
        .filter((line) => line === 'sleep 987654').length;
    await until('its processes run', async () => sleeping() === 2);
    expect((await world.cli('run', 'stop', String(run.number), '--project', 'tasks')).status).toBe(0);
    const ended = await world.waitRun('tasks', commit);
    expect(ended).toMatchObject({ state: 'stopped', issue: { code: 'stopped_by', data: { who: 'owner' } } });
    expect(sleeping()).toBe(0);
    expect((await world.cli('run', 'stop', String(run.number), '--project', 'tasks')).err).toContain(
      'has ended: stopped',
    );
  });

  it('keep links as they are and never follow them on the host', async () => {
    const run = await perform(
      '  link: { run: "mkdir out && ln -s /etc/passwd out/p && ln -s ../../../../../etc out/e", makes: [out/] }\n  reads: { needs: [link], run: "readlink out/p out/e; cat out/p | head -n 1" }\n',
    );
    expect(run.state).toBe('passed');
    expect(await world.log(run.taskList.find((task) => task.name === 'reads')?.attempts[0]?.id as string)).toBe(
      '/etc/passwd\n../../../../../etc\nroot:x:0:0:root:/nonexistent:/usr/sbin/nologin\n',
    );
  });

  it('reach neither this machine nor private ranges, also with the network', async () => {
    const { port } = new URL(world.url);
    // The machine's own way out, and who answers for names there, are no business of work's, either.
    const gateways = ['-4', '-6'].flatMap(
      (family) => /^default via (\S+)/m.exec(execFileSync('ip', [family, 'route'], { encoding: 'utf8' }))?.[1] ?? [],
    );
    const resolvers = [...readFileSync('/etc/resolv.conf', 'utf8').matchAll(/^nameserver +([0-9.]+)$/gm)].map(
      (one) => one[1] as string,
    );
    const places = [
      '10.1.2.3',
      '172.16.0.9',
      '192.168.1.1',
      '169.254.169.254',
      '192.0.0.1',
      '198.18.0.1',
      '224.0.0.1',
      ...gateways,
      ...resolvers,
    ];
    const tries = [
      `127.0.0.1/${port}`,
      `127.0.0.1/${world.house.ports.database}`,
      ...places.flatMap((one) => [`${one}/80`, `${one}/53`]),
    ];
    const script = `for place in ${tries.join(' ')}; do timeout 3 bash -c "exec 3<>/dev/tcp/$place" 2>/dev/null && echo "$place open" || echo "$place shut $?"; done\n`;
    const run = await perform('  reach: { reads: [reach.sh], run: bash reach.sh, network: true }\n', {
      'reach.sh': script,
    });
    const lines = (await world.log(run.taskList[0]?.attempts[0]?.id as string)).trimEnd().split('\n');
    // Shut at once: 124 would mean that something swallowed it in silence.
    expect(lines).toEqual(tries.map((place) => `${place} shut 1`));
  });

  it('stream their lines while they run', async () => {
    const commit = await checkout.commitAndPush(
      { 'tsunagi.yaml': definition('  slow: { run: "for i in 1 2 3; do echo line $i; sleep 0.4; done" }\n') },
      'Slow lines',
    );
    const attempt = await until('the attempt runs', async () => {
      const { items } = await world
        .api()
        .get<{ items: { number: number; commit: { id: string } }[] }>('/api/runs?project=tasks&limit=5');
      const found = items.find((one) => one.commit.id === commit);
      const run =
        found &&
        (await world
          .api()
          .get<{ taskList: { attempts: { id: string; state: string }[] }[] }>(
            `/api/projects/tasks/runs/${found.number}`,
          ));
      return run?.taskList[0]?.attempts.find((one) => one.state === 'running')?.id;
    });
    const answer = await fetch(`${world.url}/api/attempts/${attempt}/log?follow=true`, {
      headers: { authorization: `Bearer ${world.house.token}` },
    });
    const chunks: string[] = [];
    for await (const part of answer.body as unknown as AsyncIterable<Uint8Array>)
      chunks.push(Buffer.from(part).toString());
    const text = chunks.join('');
    expect(text.match(/event: chunk/g)?.length).toBeGreaterThan(1);
    expect(text).toContain('"text":"line 3\\n"');
    expect(text).toMatch(/event: end\ndata: \{"state":"passed"\}/);
  });
});

describe('prepare', () => {
  it('runs once before new servers start, with the variables of the environment, and a failure stops there', async () => {
    const files = {
      ...app('prepared'),
      'tsunagi.yaml': `tsunagi: 1
release:
  parts:
    api: { kind: server, files: [server.js, package.json, migrate.sh], start: node server.js, at: /api }
  prepare: { part: api, run: bash migrate.sh }
  variables: { LEVEL: "7" }
environments:
  staging: { branch: main }
`,
      'migrate.sh': 'echo "prepare of $TSUNAGI_RELEASE in $TSUNAGI_ENVIRONMENT at level $LEVEL"; touch here\n',
    };
    const { checkout, first } = await world.hosted('prepared', files);
    await checkout.push();
    await world.waitLive('prepared', 'staging', first);
    const events = await world.events('project=prepared&type=attempt.ended');
    expect(events.map((one) => one.data.kind)).toEqual(['prepare']);
    expect(await world.log(events[0]?.subject.replace('attempt ', '') as string)).toBe(
      'prepare of r1 in staging at level 7\n',
    );
    await checkout.commitAndPush({ 'migrate.sh': 'read answer\n' }, 'Waits for input');
    const failed = await until(
      'the failed deployment',
      async () => (await world.environment('prepared', 'staging')).failed,
    );
    expect(failed).toMatchObject({
      failure: {
        code: 'prepare_failed',
        says: expect.stringContaining('it asks for input, and nobody is there to answer: read answer'),
      },
    });
    expect((await world.visit('prepared-staging.localhost', '/api')).status).toBe(200);
  });
});
