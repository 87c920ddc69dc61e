/** Pictures of reviews, taken by a real browser in its sandbox: what they show, what a hostile page gets out of it, and what becomes of them. */
import { mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { PNG } from 'pngjs';
import { pngSize } from '../../src/core/pictures/png.js';
import type { FigureLines } from '../../src/wire/environments/figures.js';
import type { Picture, PictureImage, PictureList } from '../../src/wire/environments/pictures.js';
import { inTurn } from './turn.js';
import { type Checkout, noteRoom, openWorld, until, type World } from './world.js';

/** Pages as they are and as they should not be; whatever reaches it is printed. */
const server = (title: string) => `import { createServer } from 'node:http';
const style = '<style>body{font:20px sans-serif;margin:40px}</style>';
const pages = {
  '/': () => '<h1>${title}</h1><p>06:10 Mejima</p><p>' + Math.random().toString(36).repeat(2) + '</p>',
  '/tall': () => '<div style="height:9000px;background:linear-gradient(#fff,#036)"></div>',
  '/away': () => '<script>location = "http://elsewhere.example/"</script>',
  '/shouts': () => '<h1>Shouts</h1><script>alert("a"); confirm("b"); onbeforeunload = () => "c"</script>',
  '/tries': () => '<h1>Tries</h1><script>' + tries + '</script>',
};
const tries = 'const told = []; const ask = async (name, url) => { try { const answer = await fetch(url, { mode: "no-cors" }); told.push(name + " answered " + answer.type + " " + answer.status) } catch { told.push(name + " failed") } }; const all = [["service", "SERVICE"], ["sister", "SISTER"], ["outside", "http://203.0.113.7/"], ["file", "file:///etc/passwd"]]; Promise.all(all.map(([name, url]) => ask(name, url))).then(() => fetch("/told?" + told.concat("cookie " + document.cookie).join("; "))); new WebSocket("ws://" + location.host + "/socket")'.replaceAll('SERVICE', process.env.SERVICE_URL).replaceAll('SISTER', process.env.SISTER_URL);
const server = createServer((request, response) => {
  console.log('heard', request.method, decodeURIComponent(request.url), JSON.stringify(request.headers.cookie ?? null), JSON.stringify(request.headers['tsunagi-pass'] ?? null));
  const page = pages[request.url];
  response.writeHead(page ? 200 : 404, { 'content-type': 'text/html' }).end(page ? style + page() : 'no such page');
}).listen(process.env.PORT);
server.on('upgrade', (request, socket) => { console.log('heard upgrade', JSON.stringify(request.headers.cookie ?? null)); socket.destroy(); });
process.on('SIGTERM', () => process.exit(0));
`;
const definition = ({ pages = '[/]', more = '' } = {}) => `tsunagi: 1
release:
  parts: { web: { kind: server, files: [server.js, package.json], start: node server.js, ready: / } }
  variables: { SERVICE_URL: { default: "${world.url}/api/health" }, SISTER_URL: { default: "http://shop-staging.localhost:${world.house.edgePort}/" } }
environments:
  review: { for: pull requests, pictures: ${pages}${more} }
  staging: { branch: main }
`;
const files = (title: string, of: Parameters<typeof definition>[0] = {}) => ({
  'server.js': server(title),
  'package.json': '{ "type": "module" }\n',
  'tsunagi.yaml': definition(of),
});

let world: World;
let checkout: Checkout;
const environments = '/api/projects/shop/environments';
const place = `${environments}/on-winter`;
const list = (of = place) => world.api().get<PictureList>(`${of}/pictures`);
const newest = async (of = place): Promise<Picture | null> => (await list(of)).items[0] ?? null;
const over = (what: string, release?: number, of = place) =>
  until(what, async () => {
    const one = await newest(of);
    return one && one.state !== 'asked' && one.state !== 'taking' && (!release || one.release === release) ? one : null;
  });
const again = (of = place) => world.api().post<PictureList>(`${of}/pictures`);
const bytesOf = async (image: PictureImage | null, token = world.house.token) => {
  const answer = await fetch(world.url + image?.url, { headers: { authorization: `Bearer ${token}` } });
  return { answer, bytes: Buffer.from(await answer.arrayBuffer()) };
};
const logOfReview = async () => {
  const { instanceList } = await world.environment('shop', 'on-winter');
  const texts = await Promise.all(
    instanceList.map(async ({ id }) => {
      const { items } = await world.api().get<{ items: { text: string }[] }>(`/api/instances/${id}/log`);
      return items.map((one) => one.text).join('');
    }),
  );
  return texts.join('');
};
/** What main says of the pages from now on, live in staging, and then a commit of the branch in the review. */
async function winter(title: string, of: Parameters<typeof definition>[0] = {}): Promise<Picture> {
  await checkout.git('checkout', '-q', 'main');
  const base = await checkout.commit(files('Departures', of), `Main before ${title}`);
  await checkout.push();
  await world.waitLive('shop', 'staging', base);
  await checkout.git('checkout', '-q', 'winter');
  const commit = await checkout.commit(files(title, of), title);
  await checkout.push('winter');
  const { live } = await world.waitLive('shop', 'on-winter', commit);
  return over(`the picture of ${title}`, live?.release);
}

beforeAll(async () => {
  // The browser that is found here.
  world = await openWorld({ env: { TSUNAGI_CHROMIUM: '' } });
  let first: string;
  ({ checkout, first } = await world.hosted('shop', files('Departures')));
  await checkout.push();
  await world.waitLive('shop', 'staging', first);
  await checkout.git('checkout', '-qb', 'winter');
  await checkout.commit(files('Departures in winter'), 'Winter');
  await checkout.push('winter');
  await world.api().post('/api/projects/shop/reviews', { branch: 'winter' });
});
afterAll(() => world?.close());

describe('a review', () => {
  it('is pictured beside what its change leads to: what differs, and what moves by itself', async () => {
    const one = await over('the picture of its first deployment');
    expect(one).toMatchObject({ state: 'taken', issue: null, beside: { environment: 'staging', release: 1 } });
    const [page] = one.pages;
    expect(page).toMatchObject({ path: '/', after: { status: 200, why: null }, before: { status: 200, why: null } });
    expect(page?.share).toBeGreaterThan(0);
    expect(page?.share).toBeLessThan(0.02);
    expect(one.share).toBe(page?.share);
    // The text that is another one each time stands alone on its line; the heading is what differs.
    expect(page?.restless).toBeGreaterThan(0);
    expect(page?.areas).toHaveLength(1);
    expect(page?.areas[0]?.y).toBeLessThan(100);
    const sizes = { after: [1280, 800], before: [1280, 800], marked: [1280, 800], small: [320, 200] };
    for (const [file, [width, height]] of Object.entries(sizes)) {
      const image = page?.images[file as keyof typeof sizes] ?? null;
      const { answer, bytes } = await bytesOf(image);
      expect([answer.status, answer.headers.get('content-type')]).toEqual([200, 'image/png']);
      expect(answer.headers.get('content-security-policy')).toContain('sandbox');
      expect(pngSize(bytes)).toEqual({ width, height });
      expect(PNG.sync.read(bytes).width).toBe(width);
    }
    // Standing environments are pictured where they ask for it alone.
    expect((await list(`${environments}/staging`)).items).toEqual([]);
    expect(
      (
        await world
          .api()
          .raw('POST', `${environments}/staging/pictures`, { headers: { 'idempotency-key': 'none-of-staging' } })
      ).body.code,
    ).toBe('pictures_none');
    const [view] = (await world.api().get<{ items: { environment: { picture: unknown } }[] }>('/api/reviews')).items;
    expect(view?.environment.picture).toMatchObject({ share: one.share, small: page?.images.small?.url });
  });

  it('is neither used nor measured by it, and its program hears nothing of what lets the browser in', async () => {
    const before = await world.environment('shop', 'on-winter');
    await again();
    await over('another one');
    // Figures are told in slots of ten seconds.
    await new Promise((resolve) => setTimeout(resolve, 11_000));
    const after = await world.environment('shop', 'on-winter');
    expect(after.review?.usedAt).toBe(before.review?.usedAt);
    const { series } = await world.api().get<FigureLines>(`${place}/figures`);
    expect(series.flatMap((one) => one.requests).filter((one) => one !== null && one > 0)).toEqual([]);
    const log = await logOfReview();
    expect(log).toContain('heard GET / null null');
    expect(log).not.toContain('tsunagi-pass');
  });

  it('shows the same on the command line, and saves it', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'tsunagi-shots-'));
    try {
      const { out, status } = await world.cli('environment', 'pictures', 'shop/on-winter', '--save', folder);
      expect(status).toBe(0);
      expect(out).toMatch(
        /r\d+ beside staging \(r1\), taken .*\nPAGE +DIFFERS +PLACES +ANSWERS +SIZE\n\/ +[\d.]+ % +1 +200 +1280 × 800\n/,
      );
      expect(readdirSync(folder).sort()).toEqual(['0-after.png', '0-before.png', '0-marked.png', '0-small.png']);
      expect(pngSize(readFileSync(join(folder, '0-small.png')))).toEqual({ width: 320, height: 200 });
      expect((await world.cli('environment', 'pictures', 'shop/staging')).out).toContain(
        'No picture was taken of shop/staging.',
      );
      const anew = await world.cli('environment', 'pictures', 'shop/on-winter', '--again');
      expect([anew.status, anew.out]).toEqual([0, expect.stringMatching(/taken (now|\d)/)]);
    } finally {
      rmSync(folder, { recursive: true, force: true });
    }
  });
});

describe('a page', () => {
  it('that is tall, leads away or asks is bounded, and said', async () => {
    const one = await winter('Bad pages', { pages: '[/tall, /away, /shouts, /missing]' });
    expect(one.state).toBe('taken');
    const [tall, away, shouts, missing] = one.pages;
    expect(tall?.images.after).toMatchObject({ width: 1280, height: 4_000 });
    expect(tall?.share).toBe(0);
    expect(away?.images.after ?? away?.after.why).toBeTruthy();
    expect(shouts?.after).toEqual({ status: 200, why: null });
    expect(missing?.after).toEqual({ status: 404, why: null });
    // The small one is of the first page alone.
    expect(shouts?.images.small).toBeNull();
  });

  it('that tries to reach others reaches its own host alone', async () => {
    await winter('Tries', { pages: '[/tries]' });
    const told = await until(
      'it has told',
      async () => /heard GET \/told\?(.*) null null/.exec(await logOfReview())?.[1],
    );
    expect(told.split('; ')).toEqual(
      expect.arrayContaining(['service failed', 'sister failed', 'outside failed', 'file failed', 'cookie']),
    );
    expect(await logOfReview()).toContain('heard upgrade null');
  });

  it('is pictured through the gate, which lets in nobody who makes such a pass up', async () => {
    const one = await winter('Behind the gate', { more: ', access: signed-in' });
    expect((await world.environment('shop', 'on-winter')).review?.access).toBe('signed-in');
    expect(one.pages[0]).toMatchObject({ after: { status: 200, why: null } });
    expect(one.share).toBeLessThan(0.05);
    const attempt = one.attempt ?? '';
    for (const pass of [`i.${attempt}.${'0'.repeat(64)}`, `i.${attempt}.`, `i.${'x'.repeat(36)}.${'0'.repeat(64)}`]) {
      const { status } = await world.visit('on-winter-shop.review.localhost', '/', {
        headers: { cookie: `tsunagi-pass=${pass}`, accept: 'application/json' },
      });
      expect([pass.slice(0, 6), status]).toEqual([pass.slice(0, 6), 401]);
    }
    // Who comes with one to an open host is as anybody else.
    const open = await world.visit('shop-staging.localhost', '/', {
      headers: { cookie: `tsunagi-pass=i.${attempt}.0` },
    });
    expect(open.status).toBe(200);
  });
});

describe('its bytes', () => {
  it('are for people who are signed in, and only of what is there', async () => {
    const image = (await list()).items.find((one) => one.pages[0]?.images.after)?.pages[0]?.images.after ?? null;
    expect((await fetch(world.url + image?.url)).status).toBe(401);
    const path = image?.url ?? '';
    for (const [wrong, status] of [
      [path.replace(/after$/, 'before2'), 400],
      [path.replace(/\/0\/after$/, '/9/after'), 404],
      [path.replace(/pictures\/[^/]+/, 'pictures/00000000-0000-7000-8000-000000000000'), 404],
      [path.replace(/pictures\/[^/]+/, 'pictures/..%2f..'), 400],
      // Of another environment.
      [path.replace('/on-winter/', '/staging/'), 404],
    ] as const)
      expect([wrong, (await world.api().raw('GET', wrong)).status]).toEqual([wrong, status]);
    for (const guess of ['', '?key=', `?key=${'a'.repeat(24)}`]) {
      const id = /pictures\/([^/]+)/.exec(path)?.[1];
      expect((await fetch(`${world.url}/picture/${id}-0-after.png${guess}`)).status).toBe(404);
    }
  });
});

describe('a picture', () => {
  it('does not wake a review that sleeps; it is taken when that is awake', async () => {
    await world.api().post(`${place}/sleep`);
    await until('it sleeps', async () => (await world.environment('shop', 'on-winter')).state === 'asleep');
    await again();
    await new Promise((resolve) => setTimeout(resolve, 3_000));
    expect([(await newest())?.state, (await world.environment('shop', 'on-winter')).state]).toEqual([
      'asked',
      'asleep',
    ]);
    await world.api().post(`${place}/wake`);
    expect((await over('it is taken then')).state).toBe('taken');
  });

  it('survives the end of its agent, and of the service at each step', async () => {
    await again();
    await until('it is being taken', async () => (await newest())?.state === 'taking');
    const first = (await newest())?.attempt;
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    const after = await over('it is taken all the same');
    expect(after.state).toBe('taken');
    expect(after.attempt).not.toBe(first);
    for (const point of inTurn(
      ['picture.take:before', 'picture.take:after', 'picture.taken:before', 'picture.taken:after'],
      2,
    )) {
      const noted = noteRoom(world, 'service');
      const file = join(world.folder, 'crash-at');
      try {
        writeFileSync(file, `${point} ${noted.path}`);
        await until('it is asked for', async () => {
          await again();
          return true;
        });
        await until(`${point} was met`, async () => readFileSync(file, 'utf8').trim() === '');
        expect([point, (await over('it is taken all the same')).state]).toEqual([point, 'taken']);
      } finally {
        noted.stop();
        writeFileSync(file, '');
      }
    }
    // Each step is a start of the service and another picture: minutes on a busy machine.
  }, 300_000);

  it('ends with its review, and what it came to stays', async () => {
    const id = (await newest())?.id;
    await again();
    await until('it is being taken', async () => (await newest())?.state === 'taking');
    await world.api().post(`${place}/close`);
    await until('it is closed', async () => (await world.environment('shop', 'on-winter')).state === 'closed');
    const one = await over('it is over');
    expect(['left out', 'taken']).toContain(one.state);
    expect(one.id).toBe(id);
    // Of the time before: how it looked is still to be seen.
    expect((await bytesOf(one.pages[0]?.images.after ?? null)).answer.status).toBe(200);
    const attempts = await world.events('project=shop&type=attempt.ended');
    expect(attempts.filter((event) => (event.data as { kind: string }).kind === 'picture').length).toBeGreaterThan(5);
  });
});
