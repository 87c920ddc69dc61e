/** Reviews whose volumes begin with the files of another environment's, made fit for others by the code that is live there. */
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { pack } from 'tar-stream';
import { readLayer } from '../../src/blobs/layer.js';
import { rebased } from '../../src/blobs/rebased.js';
import type { ResourceDetail } from '../../src/wire/environments/resources.js';
import { type Checkout, noteRoom, openWorld, until, type World } from './world.js';
import { Readable } from 'node:stream';

/** Says what is in its volume, and does there what it is asked to. */
const server = `import { createServer } from 'node:http';
import { execFile } from 'node:child_process';
createServer((request, response) => {
  if (request.url === '/ready') return response.end('ready');
  let command = '';
  request.on('data', (part) => (command += part)).on('end', () =>
    execFile('bash', ['-c', command || 'find . -type f -o -type l | sort | while read -r f; do echo "$f $(cat "$f")"; done'], { cwd: process.env.LETTERS }, (error, out, err) => response.end(out + err)));
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const scrub = `echo "scrubs $TSUNAGI_RESOURCE"; cat "$LETTERS/first.txt"
find "$LETTERS" -type f -exec sed -i 's/Hoshino/Passenger/' {} +
rm -f "$LETTERS/secret.txt"
`;
const files = (run = 'bash scrub.sh') => ({
  'server.js': server,
  'scrub.sh': scrub,
  'package.json': '{ "type": "module" }\n',
  'tsunagi.yaml': `tsunagi: 1
release:
  parts: { api: { kind: server, files: [server.js, scrub.sh, package.json], start: node server.js, ready: /ready, volumes: [letters] } }
  resources: { letters: { kind: volume, size: 24M } }
  variables: { LETTERS: { from: letters.path } }
environments:
  review: { for: pull requests, data: { letters: { copy: staging, fresh: 7d } } }
  staging: { branch: main, scrub: { part: api, run: ${run} } }
`,
});

let world: World;
let checkout: Checkout;
const path = '/api/projects/ferry/environments';
const resource = (name: string) =>
  world
    .api()
    .get<ResourceDetail>(`${path}/${name}/resources/letters`)
    .catch(() => null);
const within = async (name: string, command = '') => {
  const host = name === 'staging' ? 'ferry-staging.localhost' : `${name}-ferry.review.localhost`;
  return (await world.visit(host, '/', { method: 'POST', body: command })).text;
};
const open = (branch: string) =>
  until(`${branch} is opened`, async () => {
    await world.api().post('/api/projects/ferry/reviews', { branch });
    return true;
  });
const live = (name: string) =>
  until(`${name} is live`, async () => {
    const one = await world.environment('ferry', name);
    return one.state === 'live' && one.live ? one : null;
  });
const close = async (name: string) => {
  await until('it closes', async () => {
    await world.api().post(`${path}/${name}/close`);
    return true;
  });
  await until('it is closed', async () => (await world.environment('ferry', name)).state === 'closed');
};

beforeAll(async () => {
  world = await openWorld();
  let first: string;
  ({ checkout, first } = await world.hosted('ferry', files()));
  await checkout.push();
  await world.waitLive('ferry', 'staging', first);
  await within(
    'staging',
    `mkdir -p old empty; echo 'from Hoshino' > first.txt; echo 'of Hoshino' > old/second.txt; echo 'for Hoshino alone' > secret.txt; echo 'echo Hoshino' > run.sh; chmod +x run.sh; ln -s old/second.txt link`,
  );
  await checkout.git('checkout', '-qb', 'winter');
  await checkout.commit({ 'text.txt': 'winter' }, 'Winter');
  await checkout.push('winter');
  await checkout.git('checkout', '-qb', 'spring');
  await checkout.commit({ 'text.txt': 'spring' }, 'Spring');
  await checkout.push('spring');
});
afterAll(() => world?.close());

describe('a volume of a review', () => {
  it('begins empty where no owner has permitted copies, and says so', async () => {
    await open('winter');
    await live('on-winter');
    expect(await within('on-winter')).toBe('');
    expect((await resource('on-winter'))?.origin).toMatchObject({
      copy: 'staging',
      of: null,
      why: { code: 'copy_unpermitted' },
    });
    await close('on-winter');
  });

  it('begins with the files, made fit for others; those of the source stay as they are', async () => {
    await world.cli('environment', 'copies', 'ferry/staging', '--permit');
    await open('winter');
    await live('on-winter');
    expect(await within('on-winter')).toBe(
      './first.txt from Passenger\n./link of Passenger\n./old/second.txt of Passenger\n./run.sh echo Passenger\n',
    );
    expect(await within('on-winter', 'test -x run.sh && test -d empty && readlink link')).toBe('old/second.txt\n');
    expect((await resource('on-winter'))?.origin).toMatchObject({ copy: 'staging', why: null });
    expect(await within('staging', 'cat first.txt secret.txt')).toBe('from Hoshino\nfor Hoshino alone\n');
    // What is written there is its own.
    await within('on-winter', 'echo mine > first.txt; echo more > third.txt');
    expect(await within('staging', 'cat first.txt; ls third.txt 2>&1')).toMatch(/^from Hoshino\n.*No such file/s);
    const [snapshot] = (await resource('staging'))?.snapshots ?? [];
    expect(snapshot).toMatchObject({ state: 'ready', reviews: 1 });
    expect(await world.log(snapshot?.scrub?.attempt ?? '')).toContain('scrubs letters\nfrom Hoshino');
    // The next one is made of the same.
    await open('spring');
    await live('on-spring');
    expect(await within('on-spring', 'cat first.txt')).toBe('from Passenger\n');
    expect((await resource('staging'))?.snapshots.filter((one) => one.state === 'ready')).toHaveLength(1);
    await close('on-spring');
    await close('on-winter');
  });

  it.each([
    'snapshot.copy:before',
    'snapshot.scrub:after',
    'attempt.ended:before',
    'snapshot.settle:before',
    'resource.make:before',
    'resource.make:after',
  ])('is had all the same when the service is killed at %s', async (point) => {
    const noted = noteRoom(world, 'service');
    const file = join(world.folder, 'crash-at');
    try {
      for (const permit of [false, true])
        await until('it is said', async () => {
          await world.api().post(`${path}/staging/copies`, { permit });
          return true;
        });
      await until('nothing is left', async () =>
        ((await resource('staging'))?.snapshots ?? []).every((one) => one.state === 'failed'),
      );
      writeFileSync(file, `${point} ${noted.path}`);
      await open('winter');
      await until('it has its files', async () => (await within('on-winter', 'cat first.txt')) === 'from Passenger\n');
      expect(readFileSync(file, 'utf8').trim()).toBe('');
    } finally {
      noted.stop();
      writeFileSync(file, '');
    }
    await close('on-winter');
  });

  it('begins empty where scrub fails, and says why', async () => {
    await checkout.git('checkout', '-q', 'main');
    const failing = await checkout.commit(files('"exit 3"'), 'A scrub that fails');
    await checkout.push();
    await world.waitLive('ferry', 'staging', failing);
    await world.cli('environment', 'copies', 'ferry/staging', '--permit');
    await open('winter');
    await live('on-winter');
    expect(await within('on-winter')).toBe('');
    expect((await resource('on-winter'))?.origin?.why?.code).toBe('scrub_failed');
    await close('on-winter');
  });
});

describe('a tar in another folder', () => {
  const tar = (entries: [name: string, body: string, more?: object][]) => {
    const out = pack();
    for (const [name, body, more] of entries) out.entry({ name, ...more } as never, body);
    out.finalize();
    return Readable.from(out);
  };
  const listed = async (stream: Readable) => {
    const found: [string, string, string][] = [];
    await readLayer(stream, async (entry, body) => {
      const parts: Buffer[] = [];
      for await (const chunk of body) parts.push(chunk as Buffer);
      found.push([entry.path, entry.kind, entry.target || Buffer.concat(parts).toString()]);
    });
    return found;
  };

  it('has all of it there, and nothing of elsewhere', async () => {
    const there = () =>
      tar([
        ['./', '', { type: 'directory' }],
        ['./a.txt', 'a'],
        ['./old/', '', { type: 'directory' }],
        ['./old/b.txt', ''],
        ['./twice', '', { type: 'link', linkname: './a.txt' }],
        ['./link', '', { type: 'symlink', linkname: 'old/b.txt' }],
      ]);
    const inside = [
      ['copy', 'directory', ''],
      ['copy/a.txt', 'file', 'a'],
      ['copy/old', 'directory', ''],
      ['copy/old/b.txt', 'file', ''],
      ['copy/twice', 'link', 'copy/a.txt'],
      ['copy/link', 'symlink', 'old/b.txt'],
    ];
    expect(await listed(rebased(there(), { to: 'copy' }))).toEqual(inside);
    const back = rebased(rebased(there(), { to: 'copy' }), { from: 'copy' });
    expect(await listed(back)).toEqual(
      inside.slice(1).map(([name, kind, text]) => [name?.slice(5), kind, text?.replace(/^copy\//, '')]),
    );
    expect(
      await listed(
        rebased(
          tar([
            ['copy/a', 'a'],
            ['copied/b', 'b'],
          ]),
          { from: 'copy' },
        ),
      ),
    ).toEqual([['a', 'file', 'a']]);
  });

  it.each([
    ['leaves its folder', [['../../etc/passwd', 'x']]],
    ['is a device', [['null', '', { type: 'character-device' }]]],
  ] as [string, [string, string, object?][]][])('is refused where something in it %s', async (_, entries) => {
    await expect(listed(rebased(tar(entries), { to: 'copy' }))).rejects.toThrow();
  });
});
