/** A pull request of a stranger whose commit does all it can against the project's own line, after a developer has let it run. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import type { PageOf } from '../../src/wire/parts.js';
import type { Run, RunDetail } from '../../src/wire/runs.js';
import type { WhyTaskView } from '../../src/wire/why.js';
import { notified, startCodeHost } from './codehost.js';
import { api, type Checkout, openWorld, until, type World } from './world.js';

/** The task looks into its cache, writes there, and makes what it was asked for, unless the cache tells it otherwise. */
const definition = (more = '') => `tsunagi: 1
tasks:
  build:
    reads: [recipe.txt]
    cache: [~/.store/]
    run: 'cat ~/.store/* 2> /dev/null || echo "nothing is kept"; mkdir out; cp recipe.txt out/; cat ~/.store/poison >> out/recipe.txt 2> /dev/null || true; cp recipe.txt ~/.store/ours'
    makes: [out/]
  show: { needs: [build], reads: [], run: cat out/recipe.txt }
${more}environments:
  review: { for: pull requests }
`;

/** What the stranger adds: everything that could be read or written from inside. */
const attack = `  poison:
    reads: [recipe.txt]
    cache: [~/.store/]
    network: true
    run: |
      ls -A ~/.store | sed 's/^/kept: /'
      echo "and arsenic" > ~/.store/poison
      env | grep -i -E 'token|secret|password' || echo "no key in the environment"
      ls -d /var/lib/tsunagi /tmp/tsunagi-* /home/*/.ssh /root 2> /dev/null | grep -v '^/root$' || echo "nothing of the host"
      ls /root 2> /dev/null | head -n 1 | grep . || echo "root's home is empty or closed"
      ps -eo args 2> /dev/null | grep -E 'enter.js|postgres' | grep -v grep || echo "no process but its own"
      for port in $PORTS; do timeout 2 bash -c "echo > /dev/tcp/127.0.0.1/$port" 2> /dev/null && echo "reached $port" || true; done
      echo "asked all ports"
`;

let world: World;
let codehost: CodeHost;
let checkout: Checkout;
beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
  ({ checkout } = await notified(world, codehost, 'galley', { 'recipe.txt': 'rice\n', 'tsunagi.yaml': definition() }));
});
afterAll(async () => {
  await codehost?.close();
  await world?.close();
});

const ended = (number: number) =>
  until(`run ${number} has ended`, async () => {
    const run = await world.api().get<RunDetail>(`/api/projects/galley/runs/${number}`);
    return run.endedAt ? run : null;
  });
const logOf = (run: RunDetail, task: string) => {
  const found = run.taskList.find((one) => one.name === task);
  return world.log(found?.attempts.at(-1)?.id as string);
};
const states = (run: RunDetail) => Object.fromEntries(run.taskList.map((task) => [task.name, task.state]));

/** Offers a commit as a stranger's pull request and lets it run, as a developer who has not looked closely. */
async function offer(
  branch: string,
  files: Record<string, string>,
): Promise<{ run: RunDetail; pull: number; commit: string }> {
  await checkout.git('checkout', '-q', '-B', branch, 'main');
  const commit = await checkout.commit(files, `Offer ${branch}`);
  await checkout.git('push', '-q', 'origin', `HEAD:refs/offered/${branch}`);
  await checkout.git('checkout', '-q', 'main');
  const pull = await codehost.openPull('galley', { title: branch, branch, trusted: false });
  const waiting = await until('its run waits', async () =>
    (await world.api().get<PageOf<Run>>('/api/runs?project=galley&state=waiting')).items.find(
      (one) => one.pullRequest === pull.number && one.issue?.code === 'run_untrusted',
    ),
  );
  await world.api().post(`/api/projects/galley/commits/${commit}/allow`);
  return { run: await ended(waiting.number), pull: pull.number, commit };
}

describe('a hostile pull request', () => {
  let hostile: RunDetail;
  let pull: number;
  beforeAll(async () => {
    expect(states(await ended(1))).toEqual({ build: 'passed', show: 'passed' });
    const ports = Object.values(world.house.ports).join(' ');
    const more = attack.replace('network: true', `network: true\n    variables: { PORTS: '${ports}' }`);
    ({ run: hostile, pull } = await offer('plums', {
      'recipe.txt': 'rice and plums\n',
      'tsunagi.yaml': definition(more),
    }));
  });

  it('finds no cache, no key, no file or process of the host, and no port of it', async () => {
    expect(states(hostile)).toEqual({ build: 'passed', show: 'passed', poison: 'passed' });
    expect(await logOf(hostile, 'build')).toContain('nothing is kept');
    const said = (await logOf(hostile, 'poison')).trim().split('\n');
    // What this pull request kept itself, in its other task, is its own.
    expect(said.filter((line) => line !== 'kept: ours')).toEqual([
      'no key in the environment',
      'nothing of the host',
      "root's home is empty or closed",
      'no process but its own',
      'asked all ports',
    ]);
  });

  it('gets a review apart from all others, in which nothing is: it makes nothing that could be deployed', async () => {
    const { state, live, url, review } = await world.environment('galley', `pr-${pull}`);
    expect([state, live, review?.outside]).toEqual(['empty', null, true]);
    expect(url).toContain('.untrusted.localhost');
    expect(hostile).toMatchObject({ release: null, branch: null });
  });

  it('has poisoned its own line alone: the same bytes on main are built anew, without it', async () => {
    const second = await offer('more', { 'recipe.txt': 'rice and plums\n' });
    expect(await logOf(second.run, 'build')).toContain('nothing is kept');
    const commit = await checkout.commitAndPush({ 'recipe.txt': 'rice and plums\n' }, 'Take the recipe');
    const taken = await world.waitRun('galley', commit);
    expect(states(taken)).toEqual({ build: 'passed', show: 'passed' });
    expect(taken.taskList[0]?.fingerprint).toBe(second.run.taskList[0]?.fingerprint);
    expect(taken.taskList[0]?.attempts.map((one) => one.id)).not.toContain(second.run.taskList[0]?.attempts[0]?.id);
    expect(await logOf(taken, 'show')).toBe('rice and plums\n');
    // Main's own cache is the one it kept in its first run.
    expect(await logOf(taken, 'build')).toBe('rice\n');
  });

  it('may use what main has passed, and its own changed task may not be used by main', async () => {
    const same = await offer('nothing', { 'note.txt': 'a file that no task reads\n' });
    expect(states(same.run)).toEqual({ build: 'reused', show: 'reused' });
    const changed = definition().replace('mkdir out', 'mkdir out; echo bitter > out/almonds');
    const bitter = await offer('almonds', { 'tsunagi.yaml': changed });
    expect(states(bitter.run)).toMatchObject({ build: 'passed' });
    const commit = await checkout.commitAndPush({ 'tsunagi.yaml': changed }, 'The same words on main');
    expect(states(await world.waitRun('galley', commit))).toMatchObject({ build: 'passed' });
  });

  it('becomes a release that no standing environment takes', async () => {
    const release = `${definition().replace('environments:', 'release:\n  needs: [build]\n  parts: { page: { kind: site, needs: [build], root: out } }\n  variables: { KEY: { secret: true, about: a key, untrusted: "-" } }\nenvironments:\n  staging: { branch: main }')}`;
    const offered = await offer('pears', { 'recipe.txt': 'rice and pears\n', 'tsunagi.yaml': release });
    expect(offered.run.release).not.toBeNull();
    const commit = await checkout.commitAndPush({ 'tsunagi.yaml': release }, 'A release on main');
    await world.waitRun('galley', commit);
    await world.cli('variable', 'set', 'KEY=of-the-galley', '--secret', '--project', 'galley');
    const deploy = await world.api().raw('POST', '/api/projects/galley/environments/staging/deployments', {
      body: { kind: 'deploy', release: offered.run.release },
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect([deploy.status, deploy.body.code]).toEqual([409, 'release_untrusted']);
  });

  it('runs a commit that came with it, and is neither its head nor on a branch, for that commit alone', async () => {
    await checkout.git('checkout', '-q', '-B', 'chain', 'main');
    const middle = await checkout.commit({ 'recipe.txt': 'hemlock\n' }, 'In the middle');
    await checkout.commit({ 'recipe.txt': 'rice\n' }, 'At the end');
    const head = await checkout.git('rev-parse', 'HEAD');
    await checkout.git('push', '-q', 'origin', 'HEAD:refs/offered/chain');
    await checkout.git('checkout', '-q', 'main');
    await codehost.openPull('galley', { title: 'chain', branch: 'chain', trusted: false });
    await until('it is here', async () =>
      (await world.api().get<PageOf<Run>>('/api/runs?project=galley&limit=100')).items.some(
        (one) => one.commit.id === head,
      ),
    );
    const started = await world.api().post<Run>(`/api/projects/galley/commits/${middle}/allow`);
    const run = await ended(started.number);
    expect(await logOf(run, 'build')).toContain('nothing is kept');
    // What it has passed is no pass of the project's own: main makes the same bytes anew.
    const commit = await checkout.commitAndPush({ 'recipe.txt': 'hemlock\n' }, 'The same on main');
    const own = await world.waitRun('galley', commit);
    expect(own.taskList.find((task) => task.name === 'build')?.attempts.map((one) => one.id)).not.toContain(
      run.taskList.find((task) => task.name === 'build')?.attempts[0]?.id,
    );
  });

  it('is explained without a value that its own line does not know', async () => {
    const why = await world.api().get<WhyTaskView>(`/api/projects/galley/runs/${hostile.number}/tasks/poison/why`);
    expect(JSON.stringify(why)).not.toMatch(/tsu_\w|tsa_\w/);
    expect(why.inputs).toMatchObject({ project: 'galley', network: true });
  });

  it('cannot report for another attempt: an agent’s words need the fence that it was given', async () => {
    const main = (await ended(1)).taskList[0]?.attempts[0]?.id;
    const developer = await world
      .api()
      .post<{ token: string }>('/api/tokens', { name: 'a developer', role: 'developer' });
    const report = {
      fence: '1',
      happenings: [{ what: 'ended', state: 'failed', issue: null, output: null, tests: null }],
    };
    const answer = await api(world.url, developer.token).raw('POST', `/api/agent/attempts/${main}/report`, {
      body: report,
    });
    expect(answer.status).toBe(403);
    expect((await ended(1)).taskList[0]?.state).toBe('passed');
  });
});
