import { execFileSync } from 'node:child_process';
import { readdirSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import { signEvent } from '../../src/keys/webhooks.js';
import type { AddedProject } from '../../src/wire/projects.js';
import { allEnd, budget, ends, mutated, patience } from '../fuzz/budget.js';
import { notified, startCodeHost } from './codehost.js';
import { api, app, appDefinition, Checkout, openWorld, until, type World } from './world.js';

let world: World;
let codehost: CodeHost;
beforeAll(async () => {
  world = await openWorld();
  codehost = await startCodeHost(world);
});
afterAll(async () => {
  await codehost?.close();
  await world?.close();
});

describe('a code host that sends events', () => {
  let checkout: Checkout;
  let first: string;
  let added: AddedProject;
  beforeAll(async () => {
    ({ checkout, first, added } = await notified(world, codehost, 'outlet', {
      ...app('outlet'),
      'tsunagi.yaml': appDefinition,
    }));
    await world.waitLive('outlet', 'staging', first);
  });

  it('gives a pull request a review of its own, deploys each push there, and removes all of it when it closes', async () => {
    await checkout.git('checkout', '-q', '-b', 'banner');
    const proposed = await checkout.commitAndPush(app('banner'), 'A banner', 'banner');
    const pull = await codehost.openPull('outlet', { title: 'A banner', branch: 'banner' });
    const name = `pr-${pull.number}`;
    const host = `${name}-outlet.review.localhost`;
    await world.waitLive('outlet', name, proposed);
    expect((await world.visit(host)).text).toContain('<h1>banner</h1>');
    expect((await world.visit('outlet-staging.localhost')).text).toContain('<h1>outlet</h1>');

    const next = await checkout.commitAndPush(app('better banner'), 'A better banner', 'banner');
    await world.waitLive('outlet', name, next);
    expect((await world.visit(host)).text).toContain('<h1>better banner</h1>');
    // Replaced servers of a review end, too: first the warm ones with the review.
    await codehost.closePull('outlet', pull.number, 'merged');
    await until('the review is closed', async () => (await world.environment('outlet', name)).state === 'closed');
    expect(await world.visit(host)).toMatchObject({ status: 404 });
    const left = (await world.environment('outlet', name)).instanceList.filter(
      (one) => one.state === 'ready' || one.state === 'starting' || one.state === 'waiting',
    );
    expect(left).toEqual([]);
    const running = execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' });
    for (const one of (await world.environment('outlet', name)).instanceList) expect(running).not.toContain(one.id);
    await checkout.git('checkout', '-q', 'main');
  });

  it('lets a commit of an untrusted pull request run only when a developer allows it, and shows it apart then', async () => {
    await checkout.git('checkout', '-q', '-b', 'stranger', 'main');
    // Not a branch of the project's own: whoever may push there is trusted.
    const commit = await checkout.commit({ 'note.txt': 'hello' }, 'From a stranger');
    await checkout.git('push', '-q', 'origin', 'HEAD:refs/offered/stranger');
    const pull = await codehost.openPull('outlet', { title: 'From a stranger', branch: 'stranger', trusted: false });
    const waiting = await until('its run waits', async () => {
      const { items } = await world.api().get<{
        items: {
          number: number;
          commit: { id: string };
          pullRequest: number | null;
          issue: { code: string } | null;
          state: string;
        }[];
      }>('/api/runs?project=outlet&state=waiting');
      return items.find((one) => one.pullRequest === pull.number && one.issue?.code === 'run_untrusted');
    });
    expect(waiting.state).toBe('waiting');
    for (const ref of [commit, `pr-${pull.number}`]) {
      const refused = await world.cli('run', 'start', ref, '--project', 'outlet');
      expect([refused.status, refused.err]).toEqual([1, expect.stringContaining('tsunagi run allow')]);
    }
    // One that is stopped before it was allowed is not permitted by running it again.
    await world.cli('run', 'stop', String(waiting.number), '--project', 'outlet');
    await until('it is stopped', async () => (await runAt(waiting.number)).endedAt);
    const again = await world.api().raw('POST', `/api/projects/outlet/runs/${waiting.number}/again`, {
      body: {},
      headers: { 'idempotency-key': crypto.randomUUID() },
    });
    expect(again.body.code).toBe('run_untrusted');
    expect((await world.cli('run', 'allow', 'main', '--project', 'outlet')).status).toBe(2);
    const main = (await checkout.git('rev-parse', 'main')).trim();
    expect((await world.cli('run', 'allow', main, '--project', 'outlet')).err).toContain('needs no permission');
    const review = `/api/projects/outlet/environments/pr-${pull.number}`;
    expect((await world.api().raw('GET', review)).status).toBe(404);
    const allowed = await world.cli('run', 'allow', commit.slice(0, 10), '--project', 'outlet', '--json');
    const { number } = JSON.parse(allowed.out) as { number: number };
    const run = await until('it has run', async () => {
      const one = await runAt(number);
      return one.endedAt ? one : null;
    });
    expect(run.state).toBe('passed');
    // Now it may be run as often as wanted.
    expect((await world.cli('run', 'start', commit, '--project', 'outlet')).status).toBe(0);
    expect((await world.events('project=outlet&type=run.allowed'))[0]).toMatchObject({
      subject: `run ${number}`,
      data: { actor: 'owner' },
    });
    const live = await world.waitLive('outlet', `pr-${pull.number}`, commit);
    expect([live.review?.outside, live.url.includes('.untrusted.localhost')]).toEqual([true, true]);
    await checkout.git('checkout', '-q', 'main');
  });

  const runAt = (number: number) =>
    world.api().get<{ state: string; endedAt: string | null }>(`/api/projects/outlet/runs/${number}`);
  const send = (body: string, signature: Record<string, string>, project = 'outlet') =>
    api(world.url, null).raw('POST', `/api/sources/${project}/events`, {
      body,
      headers: { 'content-type': 'application/cloudevents+json', ...signature },
    });
  const event = (change: object = {}) =>
    JSON.stringify({
      specversion: '1.0',
      id: crypto.randomUUID(),
      source: '/test',
      type: 'dev.tsunagi.branch.pushed',
      data: { branch: 'main' },
      ...change,
    });
  const signed = (body: string, at = Date.now()) => send(body, signEvent(added.eventSecret as string, 'e', body, at));

  it('answers an event that was seen before as done and changes nothing', async () => {
    const body = event();
    expect(await signed(body)).toMatchObject({ status: 202, body: { seenBefore: false } });
    expect(await signed(body)).toMatchObject({ status: 202, body: { seenBefore: true } });
  });

  it.each([
    ['a wrong signature', () => send(event(), signEvent('guess', 'e', 'x', Date.now())), 401, 'signature_wrong'],
    ['no signature', () => send(event(), {}), 401, 'signature_wrong'],
    ['an old signature', () => signed(event(), Date.now() - 305_000), 401, 'signature_old'],
    ['one from the future', () => signed(event(), Date.now() + 305_000), 401, 'signature_old'],
    [
      'an unknown project',
      () => send(event(), signEvent('x', 'e', 'x', Date.now()), 'nowhere'),
      401,
      'signature_wrong',
    ],
    ['no JSON', () => signed('{"a":'), 400, 'event_malformed'],
    ['no CloudEvent', () => signed('{}'), 400, 'event_malformed'],
    ['an unknown type', () => signed(event({ type: 'dev.tsunagi.price.risen' })), 422, 'event_unknown'],
    [
      'a change without a number',
      () => signed(event({ type: 'dev.cdevents.change.created.0.3.0', data: { title: 'x' } })),
      400,
      'event_malformed',
    ],
    [
      'a head that is an option of git',
      () => signed(event({ type: 'dev.cdevents.change.created.0.3.0', data: { number: 9, head: '--upload-pack=x' } })),
      400,
      'event_malformed',
    ],
    ['a body that is too large', () => signed(event({ data: { branch: 'x'.repeat(300_000) } })), 413, 'body_too_large'],
  ])('refuses %s with a code and what to do, and records it', async (_name, call, status, code) => {
    const answer = await call();
    expect([answer.status, answer.body.code]).toEqual([status, code]);
    expect(answer.body.next.length).toBeGreaterThanOrEqual(10);
    if (code.startsWith('event'))
      await until('it is recorded', async () =>
        (await world.events('project=outlet&type=intake.refused')).some(
          (one) => (one.data.issue as { code: string }).code === code,
        ),
      );
  });

  it(
    'answers whatever is signed in words, and is never hurt by it',
    async () => {
      const text = fc.oneof(
        fc.string({ unit: 'binary', maxLength: 40 }),
        fc.constantFrom('main', 'a\0b', '\ud800', 'refs/heads/x', '-x', 'f'.repeat(40)),
      );
      const type = fc.constantFrom(
        'dev.tsunagi.branch.pushed',
        'dev.cdevents.change.created.0.3.0',
        'dev.cdevents.change.merged.0.3.0',
        'dev.tsunagi',
        'x\0',
      );
      const data = fc.record(
        {
          branch: text,
          commit: text,
          actor: text,
          number: fc.integer(),
          title: text,
          head: text,
          base: text,
          trusted: fc.boolean(),
          customData: fc.jsonValue(),
        },
        { requiredKeys: [] },
      );
      const whole = fc.record({
        specversion: fc.constant('1.0'),
        id: text,
        source: text,
        type,
        data: fc.oneof({ weight: 9, arbitrary: data }, fc.jsonValue()),
      });
      const bodies = fc.oneof(
        { weight: 6, arbitrary: whole.map((one) => Buffer.from(JSON.stringify(one))) },
        whole.map((one) => Buffer.from(JSON.stringify(one))).chain(mutated),
        fc.jsonValue().map((one) => Buffer.from(JSON.stringify(one))),
      );
      await fc.assert(
        fc.asyncProperty(bodies, async (body) => {
          const now = Date.now();
          const answer = await ends(
            fetch(`${world.url}/api/sources/outlet/events`, {
              method: 'POST',
              body: new Uint8Array(body),
              headers: {
                'content-type': 'application/cloudevents+json',
                ...signEvent(added.eventSecret as string, 'e', body, now),
              },
            }),
          );
          const said = (await answer.json()) as { code?: string; next?: string };
          expect([202, 400, 422, 429]).toContain(answer.status);
          if (answer.status !== 202) expect(said.next).toMatch(/.{10}/);
        }),
        { ...budget, numRuns: 400 },
      );
      await allEnd();
    },
    patience,
  );

  it('records what it could not fetch, and harms nothing else', async () => {
    const absent = 'f'.repeat(40);
    expect((await signed(event({ data: { branch: 'main', commit: absent } }))).status).toBe(202);
    await until('it is recorded', async () =>
      (await world.events('project=outlet&type=intake.failed')).some((one) => {
        const { code, data } = one.data.issue as { code: string; data: { commit: string } };
        return code === 'commit_absent' && data.commit === absent;
      }),
    );
    const good = await checkout.commitAndPush({ 'note2.txt': 'x' }, 'Goes on');
    expect((await world.waitRun('outlet', good)).state).toBe('passed');
  });

  it('takes no pushes', async () => {
    await expect(
      new Checkout(checkout.folder, '').git(
        'push',
        '-q',
        `${world.url.replace('//', `//x:${world.house.token}@`)}/git/outlet`,
        'main',
      ),
    ).rejects.toThrow(/409/);
  });
});

describe('a hosted project', () => {
  let checkout: Checkout;
  let first: string;
  beforeAll(async () => {
    ({ checkout, first } = await world.hosted('shoal', { 'a.txt': 'a\n' }));
    await checkout.push();
  });

  it('says what is missing when a commit has no definition', async () => {
    expect(await world.waitRun('shoal', first)).toMatchObject({
      state: 'failed',
      issue: { code: 'definition_missing', next: expect.stringContaining('tsunagi.yaml') },
    });
  });

  it('shows every mistake of a broken definition, and keeps the last valid one of main', async () => {
    const good = await checkout.commitAndPush(
      { 'tsunagi.yaml': 'tsunagi: 1\nenvironments:\n  staging: { branch: main }\n' },
      'Good',
    );
    expect((await world.waitRun('shoal', good)).state).toBe('passed');
    const bad = await checkout.commitAndPush(
      { 'tsunagi.yaml': 'tsunagi: 1\ntaks: {}\nenvironments:\n  staging: { brunch: main }\n' },
      'Bad',
    );
    const run = await world.waitRun('shoal', bad);
    expect(run.issue).toMatchObject({ code: 'definition_invalid', says: expect.stringContaining('2 errors') });
    expect(run.definitionIssues.map((one) => [one.line, one.column, one.next])).toEqual([
      [2, 1, 'Did you mean `tasks`?'],
      [4, 14, 'Did you mean `branch`?'],
    ]);
    expect(await world.api().get('/api/projects/shoal')).toMatchObject({ definitionCommit: good });
  });

  it('refuses a definition that is a link, however it is named', async () => {
    await checkout.git('rm', '-q', 'tsunagi.yaml');
    execFileSync('ln', ['-s', '/etc/passwd', join(checkout.folder, 'tsunagi.yaml')]);
    const commit = await checkout.commitAndPush({}, 'A link');
    expect((await world.waitRun('shoal', commit)).issue?.code).toBe('definition_missing');
    await checkout.git('rm', '-q', '--cached', 'tsunagi.yaml');
    execFileSync('rm', [join(checkout.folder, 'tsunagi.yaml')]);
  });

  it('names a file whose name is not UTF-8 where a task reads it', async () => {
    const blob = (await checkout.git('hash-object', '-w', 'a.txt')).trim();
    const definition = execFileSync('git', ['-C', checkout.folder, 'hash-object', '-w', '--stdin'], {
      input: 'tsunagi: 1\ntasks: { all: { run: "true" } }\n',
      encoding: 'utf8',
    }).trim();
    const tree = execFileSync('git', ['-C', checkout.folder, 'mktree', '-z'], {
      input: Buffer.concat([
        Buffer.from(`100644 blob ${blob}\tb`),
        Buffer.from([0xff, 0xfe]),
        Buffer.from(`\x00100644 blob ${definition}\ttsunagi.yaml\x00`),
      ]),
      encoding: 'utf8',
    }).trim();
    const commit = await checkout.git('commit-tree', '-m', 'odd \u0007 name', tree);
    await checkout.git('push', '-q', 'origin', `${commit}:refs/heads/odd`);
    const run = await world.waitRun('shoal', commit);
    expect(run).toMatchObject({
      state: 'failed',
      issue: { code: 'path_not_text', says: 'The name of the file b\\xff\\xfe is not valid UTF-8.' },
      commit: { title: 'odd   name' },
    });
  });

  it('refuses tags and branches it cannot name, in words that git shows', async () => {
    await checkout.git('tag', 'v1');
    await expect(checkout.git('push', '-q', 'origin', 'v1')).rejects.toThrow(
      /Tsunagi accepts branches only, and refs\/tags\/v1 is not a branch/,
    );
    await until('it is recorded', async () => (await world.events('project=shoal&type=push.refused')).length === 1);
  });

  it.each([
    ['a wrong token', 'x:tsu_wrong', /401|Authentication failed/],
    ['no token', '', /could not read Username|401/],
  ])('refuses a push with %s', async (_name, login, words) => {
    await expect(
      checkout.git('push', '-q', `${world.url.replace('//', login ? `//${login}@` : '//')}/git/shoal`, 'main'),
    ).rejects.toThrow(words);
  });

  it('refuses a push of a viewer, and of a token for another project', async () => {
    for (const body of [
      { name: 'only looks', role: 'viewer' },
      { name: 'elsewhere', role: 'owner', project: 'outlet' },
    ]) {
      const { token } = await world.api().post<{ token: string }>('/api/tokens', body);
      await expect(
        checkout.git('push', '-q', `${world.url.replace('//', `//x:${token}@`)}/git/shoal`, 'HEAD:refs/heads/x'),
      ).rejects.toThrow(/403|not found/);
    }
  });

  it('can be fetched from, without our own refs', async () => {
    const refs = await checkout.git('ls-remote', 'origin');
    expect(refs).toContain('refs/heads/main');
    expect(refs).not.toContain('refs/tsunagi');
  });

  it('finds a push whose answer was lost when it starts again', async () => {
    const commit = await checkout.commit(
      { 'tsunagi.yaml': 'tsunagi: 1\ntasks: { a: { run: "true" } }\n' },
      'Behind its back',
    );
    const repositories = join(world.folder, 'house/service/repositories');
    const id = readdirSync(repositories).find((name) =>
      execFileSync('git', ['--git-dir', join(repositories, name), 'branch', '--list', 'odd'], {
        encoding: 'utf8',
      }).includes('odd'),
    ) as string;
    await world.restart();
    // The repository is its service's, not ours.
    const receive = `--receive-pack=git -c 'safe.directory=*' receive-pack`;
    await checkout.git('push', '-q', receive, join(repositories, id), 'HEAD:refs/heads/behind');
    await world.restart();
    expect((await world.waitRun('shoal', commit)).state).toBe('passed');
  });

  it('records a branch that is removed', async () => {
    await checkout.git('push', '-q', 'origin', ':odd');
    await until('it is recorded', async () => (await world.events('project=shoal&type=branch.removed')).length > 0);
  });
});
