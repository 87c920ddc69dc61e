/** Pushes that try to do more than move branches, and what keeps a repository as it was pushed. */
import { execFileSync, spawnSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, utimesSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { git, GitError } from '../../src/git/command.js';
import { dropLeftovers, repack } from '../../src/git/maintain.js';
import { closeObjects, objectOf } from '../../src/git/objects.js';
import type { AddedToken } from '../../src/wire/people.js';
import type { AlertPage } from '../../src/wire/alerts.js';
import { app, appDefinition, type Checkout, openWorld, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
let first: string;
let repository: string;
let token: string;
const zero = '0'.repeat(40);

beforeAll(async () => {
  world = await openWorld();
  ({ checkout, first } = await world.hosted('sailings', { ...app('first'), 'tsunagi.yaml': appDefinition }));
  await checkout.push();
  await world.waitRun('sailings', first);
  const folder = join(world.folder, 'house', 'service', 'repositories');
  repository = join(folder, readdirSync(folder).find((name) => name.endsWith('.git')) as string);
  token = (await world.api().post<AddedToken>('/api/tokens', { name: 'hands', role: 'developer' })).token;
});
afterAll(async () => {
  closeObjects(repository);
  await world?.close();
});

const refs = () =>
  execFileSync('git', [`--git-dir=${repository}`, 'for-each-ref', '--format=%(refname)'], { encoding: 'utf8' })
    .split('\n')
    .filter((ref) => ref && !ref.startsWith('refs/tsunagi/'));
const line = (text: string) => (text.length + 4).toString(16).padStart(4, '0') + text;
async function send(head: string): Promise<{ status: number; text: string }> {
  const answer = await fetch(`${world.url}/git/sailings/git-receive-pack`, {
    method: 'POST',
    headers: {
      authorization: `Basic ${Buffer.from(`x:${token}`).toString('base64')}`,
      'content-type': 'application/x-git-receive-pack-request',
    },
    body: Buffer.from(`${head}0000`, 'latin1'),
  });
  return { status: answer.status, text: await answer.text() };
}

describe('the head of a push', () => {
  const certificate = (ref: string) =>
    [
      line('push-cert\0report-status'),
      ...['certificate version 0.1\n', 'pusher x 1 +0000\n', 'nonce \n', '\n', `${zero} ${first} ${ref}\n`].map(line),
      line('push-cert-end\n'),
    ].join('');
  it.each([
    ['a certificate', () => certificate(`refs/replace/${first}`)],
    [
      'a certificate after a command',
      () => line(`${zero} ${first} refs/heads/x\0report-status`) + certificate('refs/heads/y'),
    ],
    ['a command behind a shallow line', () => line(`shallow ${first} ${zero} ${first} refs/heads/z`)],
    ['a name with a newline', () => line(`${zero} ${first} refs/heads/a\nrefs/replace/${first}\0report-status`)],
  ])('%s is refused before git sees it', async (_, head) => {
    const before = refs();
    expect((await send(head())).status).toBe(400);
    expect(refs()).toEqual(before);
  });

  it.each(['refs/replace/', 'refs/tags/', 'refs/notes/', 'refs/tsunagi/'])('moves nothing below %s', async (below) => {
    const before = refs();
    const answer = await send(line(`${zero} ${first} ${below}${first}\0report-status side-band-64k`));
    expect(answer.text).toContain('is not a branch');
    expect(refs()).toEqual(before);
    // Git says no as well, should our own reading ever let one pass.
    const own = spawnSync(
      'git',
      [
        // The repository is its service's, not ours.
        '-c',
        'safe.directory=*',
        '-c',
        'transfer.hideRefs=refs',
        '-c',
        'transfer.hideRefs=!refs/heads',
        'receive-pack',
        '--stateless-rpc',
        repository,
      ],
      { input: Buffer.from(`${line(`${first} ${zero} ${below}${first}\0report-status`)}0000`, 'latin1') },
    );
    expect(own.stdout.toString()).toMatch(/deny (updating|deleting) a hidden ref/);
  });

  it('and only branches are advertised', async () => {
    const seen = await checkout.git('ls-remote', 'origin');
    expect(seen.split('\n').map((one) => one.split('\t')[1])).toEqual(['HEAD', 'refs/heads/main']);
  });
});

describe('a protected main branch', () => {
  it('can be neither deleted nor rewritten, until an owner says so', async () => {
    await checkout.git('checkout', '-q', '-B', 'other', first);
    const other = await checkout.commit({ 'other.txt': 'x' }, 'Another history');
    await checkout.git('checkout', '-q', 'main');
    const second = await checkout.commitAndPush({ 'note.txt': 'second' }, 'Second');
    const tried = async (...args: string[]) =>
      checkout.git('push', 'origin', ...args).then(
        () => 'accepted',
        (error: Error) => error.message,
      );
    expect(await tried('--delete', 'main')).toContain('project protect sailings --off');
    expect(await tried('--force', `${other}:refs/heads/main`)).toMatch(/non-fast-forward/);
    expect((await checkout.git('ls-remote', 'origin', 'refs/heads/main')).startsWith(second)).toBe(true);
    expect((await world.events('type=push.refused')).length).toBeGreaterThan(0);
    // Other branches may be rewritten.
    expect(await tried(`${second}:refs/heads/feature`)).toBe('accepted');
    expect(await tried('--force', `${other}:refs/heads/feature`)).toBe('accepted');
    expect((await world.cli('project', 'protect', 'sailings', '--off')).out).toContain('may delete and rewrite main');
    expect(await tried('--force', `${other}:refs/heads/main`)).toBe('accepted');
    expect((await world.cli('project', 'protect', 'sailings')).out).toContain('can neither delete nor rewrite main');
  });
});

describe('refs that do not belong in a repository', () => {
  it('change nothing that is read, are deleted, and are reported', async () => {
    const files = { 'server.js': 'throw new Error("other bytes")\n' };
    await checkout.git('checkout', '-q', '-B', 'evil', first);
    const evil = await checkout.commitAndPush(files, 'Other bytes', 'evil');
    const kept = (await objectOf(repository, first, 'commit'))?.body.toString();
    execFileSync('git', [`--git-dir=${repository}`, 'update-ref', `refs/replace/${first}`, evil]);
    writeFileSync(join(repository, 'info', 'grafts'), `${first} ${evil}\n`);
    closeObjects(repository);
    expect((await objectOf(repository, first, 'commit'))?.body.toString()).toBe(kept);
    const { out } = await git(repository, ['rev-list', '--max-count=2', first, '--']);
    expect(out.toString().trim()).toBe(first);
    await world.restart();
    expect(refs().filter((ref) => !ref.startsWith('refs/heads/'))).toEqual([]);
    const [event] = await world.events('type=repository.cleared');
    expect(event?.data).toMatchObject({ refs: [`refs/replace/${first}`], count: 1 });
    const found = await until('the condition', async () =>
      (await world.api().get<AlertPage>('/api/alerts')).wrong.find((one) => one.topic === 'repository-altered'),
    );
    expect(found.says).toContain(`refs/replace/${first}`);
  });
});

describe('git that hangs', () => {
  it('ends at its limit with the helpers that it has started', async () => {
    const mark = join(world.folder, 'helper');
    // An alias runs a shell, as the helpers of a fetch would, and that one keeps the pipe open.
    const slow: [string, string] = ['alias.slow', `!sh -c 'echo $$ > ${mark}; sleep 300'; true`];
    const begun = Date.now();
    await expect(git(repository, ['slow'], { config: [slow], timeout: 500 })).rejects.toThrow('it took too long');
    expect(Date.now() - begun).toBeLessThan(60_000);
    const helper = execFileSync('cat', [mark], { encoding: 'utf8' }).trim();
    await until('its helper has ended', async () => !existsSync(`/proc/${helper}/cwd`));
  });

  it('ends when it makes no progress, and goes on while it does', async () => {
    const ticks = (n: number, pause: string): [string, string] => [
      'alias.ticks',
      `!for i in $(seq ${n}); do printf 'at %s\\r' $i >&2; sleep ${pause}; done; true`,
    ];
    await expect(git(repository, ['ticks'], { config: [ticks(2, '60')], stall: 500 })).rejects.toThrow(GitError);
    await git(repository, ['ticks'], { config: [ticks(6, '0.4')], stall: 2_000 });
  });
});

describe('the upkeep of a repository', () => {
  it('removes what a killed push has left, once nothing has written to it for long', async () => {
    const quarantine = join(repository, 'objects', 'tmp_objdir-incoming-abc', 'pack');
    mkdirSync(quarantine, { recursive: true });
    writeFileSync(join(quarantine, 'tmp_pack_x'), 'half');
    writeFileSync(join(repository, 'objects', 'pack', 'tmp_pack_y'), 'half');
    const hour = 3_600_000;
    expect(await dropLeftovers(repository, Date.now() - hour)).toBe(0);
    const old = (Date.now() - 2 * hour) / 1_000;
    for (const path of [join(repository, 'objects', 'pack', 'tmp_pack_y'), quarantine, join(quarantine, '..')])
      utimesSync(path, old, old);
    // The file in the quarantine is written to still.
    expect(await dropLeftovers(repository, Date.now() - hour)).toBe(1);
    utimesSync(join(quarantine, 'tmp_pack_x'), old, old);
    expect(await dropLeftovers(repository, Date.now() - hour)).toBe(1);
    expect(existsSync(join(quarantine, '..'))).toBe(false);
  });

  it('packs all objects, also those that no ref names', async () => {
    const lost = (await git(repository, ['hash-object', '-w', '--stdin'], { input: 'no ref names it' })).out
      .toString()
      .trim();
    expect(await repack(repository)).toBe(false);
    expect(await repack(repository, { loose: 0, packs: 0 })).toBe(true);
    const counts = (await git(repository, ['count-objects', '-v'])).out.toString();
    expect(counts).toMatch(/^packs: 1$/m);
    expect((await objectOf(repository, lost, 'blob'))?.body.toString()).toBe('no ref names it');
  });
});

describe('files that are pointers to what is kept elsewhere', () => {
  it('are a warning of the run, an event and a condition of main, until the attribute is gone', async () => {
    const tasks = "tsunagi: 1\ntasks: { t: { run: 'cat map.png' } }\n";
    const { checkout, first } = await world.hosted('pointers', {
      '.gitattributes': '*.png filter=charts diff=charts -text\n',
      'map.png': 'pointer 4711\n',
      'tsunagi.yaml': tasks,
    });
    await checkout.push();
    const run = await world.waitRun('pointers', first);
    expect(run.warnings.map(({ code }) => code)).toContain('filter_attribute');
    const wrong = async () =>
      (await world.api().get<AlertPage>('/api/alerts')).wrong.filter((one) => one.topic === 'repository-filtered');
    const condition = await until('it is a condition', async () => (await wrong())[0]);
    expect(condition.says).toContain('filter=charts');
    expect((await world.events('type=repository.filtered')).map(({ subject }) => subject)).toEqual(['pointers']);
    await world.waitRun('pointers', await checkout.commitAndPush({ '.gitattributes': '' }, 'No filter'));
    await until('it is over', async () => (await wrong()).length === 0);
  });
});
