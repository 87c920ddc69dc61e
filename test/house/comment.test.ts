/** What a code host shows of a review: one comment, kept up to date, in which whatever others have written is text. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import { rendered } from '../../demo/codehost/page.js';
import { asText, commentText, type ReviewFacts } from '../../src/core/alerts/comment.js';
import { notified, startCodeHost } from './codehost.js';
import { type Checkout, openWorld, until, type World } from './world.js';

const facts = (change: Partial<ReviewFacts> = {}): ReviewFacts => ({
  place: 'sailings/pr-214',
  page: 'http://console/sailings/pr-214',
  url: 'http://pr-214-sailings.review.localhost',
  access: null,
  closed: false,
  allow: false,
  shown: { commit: 'a'.repeat(40), release: 4 },
  head: 'a'.repeat(40),
  run: { number: 7, url: 'http://console/sailings/runs/7', state: 'passed' },
  tests: { passed: 12, failed: 0, failing: null },
  failure: null,
  data: [],
  picture: null,
  differs: { environment: 'staging', parts: ['departures'], migrations: 0 },
  ...change,
});

describe('the text of a comment', () => {
  it('says where, what, its tests and what differs', () => {
    expect(commentText(facts()).split('\n\n')).toEqual([
      '**[Look at this change](http://pr-214-sailings.review.localhost)**: it shows `aaaaaaa`.',
      '[Run 7](http://console/sailings/runs/7): 12 tests passed.',
      'Differs from staging: departures.',
      '[More at sailings/pr-214](http://console/sailings/pr-214)',
    ]);
    const behind = commentText(
      facts({
        head: 'b'.repeat(40),
        access: 'link',
        tests: { passed: 1, failed: 2, failing: 'sails at dawn' },
        data: [{ name: 'timetable', copy: 'staging', of: new Date('2026-11-27T15:33:10Z') }],
        differs: { environment: 'staging', parts: [], migrations: 1 },
      }),
    );
    expect(behind).toContain('(with a link, or signed in): it shows `aaaaaaa`, not yet `bbbbbbb`.');
    expect(behind).toContain('2 tests failed (sails at dawn), 1 passed.');
    expect(behind).toContain('Data of timetable: a copy of staging’s as of 2026-11-27 15:33 UTC.');
    expect(behind).toContain('Differs from staging: 1 migration.');
    expect(commentText(facts({ differs: { environment: 'staging', parts: [], migrations: 0 } }))).toContain(
      'The same as in staging.',
    );
    expect(commentText(facts({ url: null, shown: null, allow: true, tests: null }))).toMatch(
      /^Nothing is to be looked at yet\.\n\nIts newest commit waits until somebody who has looked at it allows it\.\n\n.*: passed\./,
    );
    const pictured = (share: number | null, image: string | null) =>
      commentText(facts({ picture: { share, image } }))
        .split('\n\n')
        .slice(3, -1);
    expect(pictured(0.0312, 'http://console/picture/1-0-marked.png?key=k')).toEqual([
      'What one sees differs from staging by 3.1 %:',
      '[![What changed](http://console/picture/1-0-marked.png?key=k)](http://console/sailings/pr-214)',
    ]);
    // Whom the review does not let in sees no picture of it, either.
    expect(pictured(0, null)).toEqual(['[It looks the same as staging](http://console/sailings/pr-214).']);
    expect(pictured(null, null)).toEqual(['[How it looks](http://console/sailings/pr-214).']);
    expect(commentText(facts({ closed: true }))).toMatch(/^The review of this pull request is closed\./);
  });

  it('shows whatever others have written as text: no link, no markup, nobody called', () => {
    const words = fc.oneof(
      fc.string({ unit: 'grapheme', maxLength: 80 }),
      fc
        .array(
          fc.constantFrom(
            '](http://evil.example)',
            '[',
            '**',
            '`',
            '<img src=x onerror=1>',
            '&#60;',
            '@everyone',
            '\\',
            '\n\n# ',
            'https://evil.example',
            '~~',
            '|',
          ),
          { maxLength: 12 },
        )
        .map((parts) => parts.join('')),
    );
    fc.assert(
      fc.property(words, (text) => {
        const page = rendered(`x${asText(text)}x`);
        expect(page.replace(/^<p>|<\/p>$/g, '')).not.toMatch(/[<>]/);
        const shown = page
          .replace(/^<p>x|x<\/p>$/g, '')
          .replace(/&#(\d+);/g, (_, code: string) => String.fromCodePoint(Number(code)));
        expect(shown).toBe(text.replace(/[\p{Cc}\p{Cf}\p{Zl}\p{Zp}]+/gu, ' '));
        // What a host makes a link or a call of by itself is broken up, too.
        expect(asText(text)).not.toMatch(/@|https?:\/\/|(^|[^\\])www\./);
      }),
      { numRuns: 2_000 },
    );
    expect(asText('x'.repeat(10_000)).length).toBeLessThan(300);
  });
});

describe('the comment at a pull request', () => {
  let world: World;
  let codehost: CodeHost;
  let checkout: Checkout;
  let number: number;
  const page = `<h1>Departures</h1>\n`;
  const unit =
    'mkdir -p out; f=; if grep -q broken web/index.html; then f="<failure message=\'no\'/>"; fi; echo "<testsuite name=\'u\'><testcase name=\'**sails** [now](http://evil.example) @all &lt;b&gt;\'>$f</testcase></testsuite>" > out/junit.xml; test -z "$f"';
  const definition = `tsunagi: 1
tasks:
  unit:
    reads: [web/]
    run: ${JSON.stringify(unit)}
    results: out/junit.xml
release:
  needs: [unit]
  parts: { page: { kind: site, files: [web/], root: web } }
environments:
  review: { for: pull requests }
  staging: { branch: main }
`;
  const comment = () => codehost.comment('sloop', number);
  const says = (text: string) =>
    until(`it says ${text}`, async () => {
      const now = comment();
      if (now?.text.includes(text)) return now;
      throw new Error(now?.text ?? 'nothing');
    });
  const read = async () => (await fetch(codehost.pullUrl('sloop', number))).text();

  beforeAll(async () => {
    world = await openWorld();
    codehost = await startCodeHost(world);
    let first: string;
    ({ checkout, first } = await notified(world, codehost, 'sloop', {
      'web/index.html': page,
      'tsunagi.yaml': definition,
    }));
    await world.waitLive('sloop', 'staging', first);
    await world.cli('project', 'report-to', 'sloop', codehost.statusUrl('sloop'));
    await checkout.git('checkout', '-qb', 'winter');
    await checkout.commit({ 'web/index.html': '<h1>Winter</h1>\n' }, 'Winter');
    await checkout.git('push', '-q', 'origin', 'winter');
    number = (await codehost.openPull('sloop', { title: '<b>Winter</b> ](x)', branch: 'winter' })).number;
  });
  afterAll(async () => {
    await codehost?.close();
    await world?.close();
  });

  it('says where the change is to be seen as soon as it is', async () => {
    const { text, edits } = await says('Look at this change');
    expect(text).toContain(`http://pr-${number}-sloop.review.localhost`);
    expect(text).toContain('1 test passed.');
    expect(text).toContain('Differs from staging: page.');
    expect(edits).toBeLessThanOrEqual(2);
    const html = await read();
    expect(html).toContain(`<strong><a href="http://pr-${number}-sloop.review.localhost`);
    expect(html).toContain('&#60;b&#62;Winter');
  });

  it('is the same comment when something has changed, also after the code host was busy and the service was killed', async () => {
    codehost.refuse(3);
    await checkout.commit({ 'web/index.html': '<h1>Winter, broken</h1>\n' }, 'Broken');
    await checkout.git('push', '-q', 'origin', 'winter');
    await until(
      'something is refused',
      async () => (await world.api().get<{ statusIssue: object | null }>('/api/projects/sloop')).statusIssue,
    );
    process.kill(world.house.rooms.service.pid() as number, 'SIGKILL');
    const { text } = await says('1 test failed');
    expect(text).toContain('not yet');
    const html = await read();
    expect(html).toContain('**sails** [now](http://evil.example) @all &#60;b&#62;');
    expect(html).not.toContain('href="http://evil.example');
  });

  it('says that it is over when the pull request is', async () => {
    await codehost.closePull('sloop', number, 'merged');
    await says('is closed');
    expect(await read()).toContain('written anew');
  });
});
