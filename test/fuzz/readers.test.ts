/** Every reader of foreign bytes in core, git and blobs: whatever comes, it ends with a result or an issue in words. */
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readdirSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { afterAll, afterEach, beforeAll, describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { pack } from 'tar-stream';
import { checkLayer, readLayer } from '../../src/blobs/layer.js';
import { unpackLayer } from '../../src/blobs/unpack.js';
import { badgeSvg } from '../../src/core/badge.js';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { CodedError } from '../../src/core/errors/errors.js';
import { compileGlob } from '../../src/core/glob.js';
import { findLines, type FoundLine } from '../../src/core/lines.js';
import { select } from '../../src/core/paths.js';
import { parseJunit } from '../../src/core/results/junit.js';
import { makeMasker } from '../../src/core/secrets/mask.js';
import { parseDotenv } from '../../src/core/variables/dotenv.js';
import { closeObjects } from '../../src/git/objects.js';
import { parseRemote } from '../../src/git/remote.js';
import { commitFacts, listFiles, readFile } from '../../src/git/repository.js';
import { openPushHead } from '../../src/git/push-head.js';
import { exchange } from '../../src/git/transfer.js';
import { checkEvent, signEvent } from '../../src/keys/webhooks.js';
import { splitSections } from '../../src/agent/log/sections.js';
import { allEnd, budget, ends, mutated, patience, pieces } from './budget.js';

let folder: string;
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-fuzz-'));
});
afterEach(allEnd);
afterAll(() => rmSync(folder, { recursive: true, force: true }));

const coded = (error: unknown): void => {
  if (!(error instanceof CodedError)) throw error;
};
const text = fc.oneof(fc.string({ unit: 'binary', maxLength: 400 }), fc.string({ unit: 'grapheme', maxLength: 400 }));

describe('a tar', () => {
  let good: Buffer;
  beforeAll(async () => {
    const tar = pack();
    tar.entry({ name: 'a.txt' }, 'first');
    tar.entry({ name: 'web', type: 'directory' });
    tar.entry({ name: `web/${'long/'.repeat(40)}name` }, 'x'.repeat(2_000));
    tar.entry({ name: 'web/link', type: 'symlink', linkname: '../a.txt' });
    tar.entry({ name: 'web/hard', type: 'link', linkname: 'a.txt' });
    tar.entry({ name: 'é.txt', pax: { comment: 'x' } }, 'last');
    tar.finalize();
    const parts: Buffer[] = [];
    for await (const chunk of tar) parts.push(chunk as Buffer);
    good = Buffer.concat(parts);
    expect(await checkLayer(Readable.from([good]))).toMatchObject({ entries: 6 });
  });

  it(
    'is read to its end or refused, and nothing of it is written elsewhere',
    async () => {
      const outside = readdirSync(folder);
      await fc.assert(
        fc.asyncProperty(
          mutated(good),
          fc.array(fc.integer({ min: 1, max: 5_000 }), { minLength: 1, maxLength: 4 }),
          async (bytes, sizes) => {
            const seen: string[] = [];
            await ends(
              readLayer(Readable.from(pieces(bytes, sizes)), async (entry, body) => {
                seen.push(entry.path);
                body.resume();
              }),
            ).catch(coded);
            for (const path of seen) expect(path).not.toMatch(/^\/|(^|\/)\.\.(\/|$)|\0/);
          },
        ),
        budget,
      );
      await fc.assert(
        fc.asyncProperty(mutated(good), async (bytes) => {
          const into = mkdtempSync(join(folder, 'into-'));
          await ends(unpackLayer(Readable.from([bytes]), { into, links: true })).catch(coded);
          rmSync(into, { recursive: true });
          expect(readdirSync(folder)).toEqual(outside);
        }),
        { ...budget, interruptAfterTimeLimit: budget.interruptAfterTimeLimit / 2 },
      );
    },
    patience,
  );

  it('that ends in an entry, whose names lead elsewhere, or of no kind is refused, by code', async () => {
    const codeOf = (bytes: Buffer) =>
      checkLayer(Readable.from([bytes])).then(
        () => 'taken',
        (error: CodedError) => error.issue.code,
      );
    for (let at = 1; at < good.length - 1_024; at += 97)
      expect(['output_broken', 'taken']).toContain(await codeOf(good.subarray(0, at)));
    expect(await codeOf(good.subarray(0, 5_000))).toBe('output_broken');
    const one = async (header: object, body = '') => {
      const tar = pack();
      tar.entry({ name: 'f' }, 'f');
      tar.entry(header as { name: string }, body);
      tar.finalize();
      const parts: Buffer[] = [];
      for await (const chunk of tar) parts.push(chunk as Buffer);
      return codeOf(Buffer.concat(parts));
    };
    for (const type of ['fifo', 'character-device', 'block-device'])
      expect(await one({ name: 'x', type })).toBe('output_unsafe');
    for (const name of ['../x', '/x', 'a/../../x', 'a//b', 'f/../../x'])
      expect(await one({ name }, 'x')).toBe('output_unsafe');
    for (const linkname of ['/etc/passwd', '../f', 'g', 'f/../../etc/passwd'])
      expect(await one({ name: 'x', type: 'link', linkname })).toBe('output_unsafe');
    expect(await one({ name: 'x', type: 'link', linkname: 'f' })).toBe('taken');
    const bounds = { entries: 2, bytes: 10, depth: 3 };
    const many = async (...names: string[]) => {
      const tar = pack();
      for (const name of names) tar.entry({ name }, '1234');
      tar.finalize();
      return checkLayer(tar as unknown as Readable, bounds).then(
        () => 'taken',
        (error: CodedError) => error.issue.code,
      );
    };
    expect([await many('a', 'b'), await many('a', 'b', 'c'), await many('a/b/c/d')]).toEqual([
      'taken',
      'output_too_large',
      'output_unsafe',
    ]);
  });
});

describe('texts', () => {
  const definition = `tsunagi: 1
tools: { node: ">=20" }
tasks:
  unit: { reads: [src/, "*.json"], run: [a, b], needs: [deps], makes: [out/] }
  deps: { reads: [package.json], run: npm ci, cache: [~/.npm/], network: true }
release:
  needs: [unit]
  parts: { api: { kind: server, files: [src/], start: node x, at: /api, ready: /api, instances: 2 } }
environments: { staging: { branch: main, verify: { reads: [x], run: y } } }
`;
  it(
    'a definition: every issue has its place in the text',
    () => {
      fc.assert(
        fc.property(
          fc.oneof(
            text,
            mutated(Buffer.from(definition)).map((bytes) => bytes.toString('latin1')),
          ),
          (source) => {
            const { definition: read, issues } = parseDefinition(source);
            if (!read) expect(issues.some((one) => one.severity === 'error')).toBe(true);
            const lines = source.split('\n').length;
            for (const one of issues) expect(one.line >= 1 && one.line <= lines && one.column >= 1).toBe(true);
          },
        ),
        budget,
      );
    },
    patience,
  );

  it(
    'dotenv, JUnit XML, badges, patterns, addresses',
    () => {
      const junit =
        '<testsuites><testsuite name="a"><testcase classname="c" name="n" time="1"><failure message="m">at x.js:1</failure></testcase></testsuite></testsuites>';
      fc.assert(
        fc.property(
          text,
          mutated(Buffer.from(junit)),
          mutated(Buffer.from('A=1\nexport B="x\\n$C"\n# c\nD=\'l\n2\'\n')),
          (any, xml, env) => {
            for (const source of [any, env.toString('latin1')]) expect(parseDotenv(source)).toBeDefined();
            for (const source of [any, xml.toString('utf8')]) {
              const { results, detail } = parseJunit(source);
              expect(results === null).toBe(detail !== null);
            }
            const svg = badgeSvg(any, 'passed');
            expect(svg.replace(/<[^>]*>/g, '')).not.toMatch(/[<>]/);
            try {
              const remote = parseRemote(any);
              expect(remote.host).toMatch(/^[0-9a-z.:-]*$/);
              expect(remote.url).not.toMatch(/[\\\s]/);
            } catch (error) {
              coded(error);
            }
            compileGlob(any)('src/a/b.js');
            select(['src/a', any, 'b'], [any]);
          },
        ),
        budget,
      );
    },
    patience,
  );

  it.each([
    ['http://93.184.216.34\\@127.0.0.1/x', '93.184.216.34', 'http://93.184.216.34/@127.0.0.1/x'],
    ['http://2130706433/x', '127.0.0.1', 'http://127.0.0.1/x'],
    ['http://0x7f.1/x', '127.0.0.1', 'http://127.0.0.1/x'],
    ['https://Code.Kohama.Example:443/a', 'code.kohama.example', 'https://code.kohama.example/a'],
  ])('git gets %s as it was understood', (given, host, url) => {
    expect(parseRemote(given)).toMatchObject({ host, url });
  });
});

describe('a log', () => {
  it(
    'is masked, split and searched the same however it is cut',
    () => {
      const secret = 'price-table-key';
      fc.assert(
        fc.property(
          fc.array(
            fc.oneof(fc.constant(secret), fc.constant('\n'), fc.constant('price'), fc.string({ maxLength: 8 })),
            {
              maxLength: 30,
            },
          ),
          fc.array(fc.integer({ min: 1, max: 9 }), { minLength: 1, maxLength: 5 }),
          (words, sizes) => {
            const bytes = Buffer.from(words.join(''));
            const whole = makeMasker({ KEY: secret });
            const cut = makeMasker({ KEY: secret });
            const expected = Buffer.concat([whole.take(bytes), whole.rest()]).toString();
            const taken = Buffer.concat([
              ...pieces(bytes, sizes).map((piece) => cut.take(piece)),
              cut.rest(),
            ]).toString();
            expect(taken).toBe(expected);
            expect(expected).not.toContain(secret);
            const lines = expected.split('\n').flatMap((line, at) => (line.includes('price') ? [at] : []));
            let rest: FoundLine | null = null;
            const found: number[] = [];
            let firstLine = 0;
            for (const piece of pieces(Buffer.from(expected), sizes)) {
              const step = findLines({
                chunks: [{ firstLine, bytes: piece }],
                rest,
                wanted: 'price',
                from: 0,
                limit: 1_000,
              });
              found.push(...step.found.map((one) => one.line));
              rest = step.rest;
              firstLine += piece.filter((byte) => byte === 10).length;
            }
            if (rest?.text.includes('price')) found.push(rest.line);
            expect(found).toEqual(lines);
          },
        ),
        budget,
      );
      const mark = 'a'.repeat(24);
      fc.assert(
        fc.property(
          fc.uint8Array({ maxLength: 200 }),
          fc.uint8Array({ maxLength: 200 }),
          fc.array(fc.integer({ min: 1, max: 60 }), { minLength: 1 }),
          (a, b, sizes) => {
            const sections = splitSections(mark);
            const all = pieces(
              Buffer.concat([a, Buffer.from(`\0${mark}\0`), b, Buffer.from(`\0${mark}\0`)]),
              sizes,
            ).flatMap((piece) => sections.push(piece));
            all.push(...sections.end());
            const of = (section: number) =>
              Buffer.concat(all.filter((one) => one.section === section).map((one) => one.bytes));
            expect([of(0).equals(Buffer.from(a)), of(1).equals(Buffer.from(b)), of(2).length]).toEqual([true, true, 0]);
          },
        ),
        { ...budget, interruptAfterTimeLimit: budget.interruptAfterTimeLimit / 2 },
      );
    },
    patience,
  );
});

describe('git', () => {
  const git = (args: string[], input?: Buffer | string) =>
    execFileSync('git', ['-C', folder, '--git-dir=fuzz.git', ...args], {
      input: input ?? '',
      maxBuffer: 1e8,
      stdio: ['pipe', 'pipe', 'ignore'],
    });
  let repository: string;
  let blob: string;
  beforeAll(() => {
    repository = join(folder, 'fuzz.git');
    execFileSync('git', ['init', '-q', '--bare', repository]);
    blob = git(['hash-object', '-w', '--stdin'], 'x').toString().trim();
  });
  afterAll(() => closeObjects(repository));

  it(
    'the head of a push, in pieces of any size, is the same or no push',
    () => {
      const line = (value: string) => (value.length + 4).toString(16).padStart(4, '0') + value;
      const id = 'b'.repeat(40);
      const good = Buffer.from(
        `${line(`shallow ${id}\n`)}${line(`${'0'.repeat(40)} ${id} refs/heads/main\0 report-status`)}${line(`${id} ${id} refs/heads/b`)}0000PACK`,
        'latin1',
      );
      const read = (chunks: Buffer[]) => {
        const reader = openPushHead();
        try {
          for (const chunk of chunks) {
            const head = reader.push(chunk);
            if (head) return JSON.stringify(head);
          }
          return null;
        } catch (error) {
          return (error as Error).message;
        }
      };
      fc.assert(
        fc.property(
          fc.oneof(
            fc.constant(good),
            mutated(good),
            fc.uint8Array({ maxLength: 300 }).map((one) => Buffer.from(one)),
          ),
          fc.array(fc.integer({ min: 1, max: 40 }), { minLength: 1, maxLength: 4 }),
          (bytes, sizes) => {
            const whole = read([bytes]);
            expect(read(pieces(bytes, sizes))).toBe(whole);
            expect([null, 'not a push'].includes(whole) || whole?.startsWith('{')).toBe(true);
          },
        ),
        budget,
      );
    },
    patience,
  );

  it(
    'the head of a push that is accepted is read by git in the same way',
    async () => {
      const line = (value: string) => (value.length + 4).toString(16).padStart(4, '0') + value;
      const ids = ['a', 'b'].map((one) => one.repeat(40));
      const zero = '0'.repeat(40);
      const name = fc.oneof(
        fc.constantFrom('refs/heads/main', 'refs/heads/b', 'refs/replace/a', 'refs/tags/t', 'HEAD', 'refs/tsunagi/x'),
        fc.string({ unit: fc.constantFrom('r', '/', ' ', '\n', '\0', '\r', '\x7f', '\xff', '.'), maxLength: 8 }),
      );
      const text = fc.oneof(
        // A deletion needs no pack, so git answers for each ref.
        fc.tuple(fc.constantFrom(...ids), name).map(([id, ref]) => `${id} ${zero} ${ref}`),
        fc.constantFrom(`shallow ${ids[0]}`, `shallow ${ids[0]} x`, 'shallow ', 'push-cert', 'push-cert-end', ''),
      );
      const after = fc.constantFrom(
        '',
        '\n',
        '\n\n',
        '\0 report-status',
        '\n\0report-status',
        '\0report-status\n',
        '\0',
      );
      const lines = fc.array(fc.tuple(text, after), { minLength: 1, maxLength: 4 });
      await fc.assert(
        fc.asyncProperty(lines, async (parts) => {
          const bytes = Buffer.from(`${parts.map(([one, end]) => line(one + end)).join('')}0000`, 'latin1');
          let head: ReturnType<ReturnType<typeof openPushHead>['push']>;
          try {
            head = openPushHead().push(bytes);
          } catch {
            return;
          }
          if (!head?.capabilities.includes('report-status')) return;
          const answer: Buffer[] = [];
          for await (const chunk of exchange(repository, 'git-receive-pack', Readable.from([bytes]), ''))
            answer.push(chunk as Buffer);
          const seen = [
            ...Buffer.concat(answer)
              .toString('latin1')
              .matchAll(/[0-9a-f]{4}(?:ok|ng) ([^\n]*)\n/g),
          ];
          // After `ng REF` comes the reason. Git stops at the first name with a fault of its own kind only after it has read all of them.
          expect(seen).toHaveLength(head.commands.length);
          for (const [at, { ref }] of head.commands.entries())
            expect(
              `${seen[at]?.[1]} `.startsWith(`${Buffer.from(ref ?? '', 'utf8').toString('latin1')} `) || ref === null,
            ).toBe(true);
        }),
        { ...budget, numRuns: process.env.TSUNAGI_FUZZ ? budget.numRuns : 150 },
      );
      expect(git(['for-each-ref'], '').toString()).toBe('');
    },
    patience,
  );

  it(
    'trees and commits of any bytes are listed or refused',
    async () => {
      const name = fc.oneof(
        fc.constantFrom('a', '..', '.git', 'b/c', 'é', '\xff', ' ', '-x', 'a\nb'),
        fc.string({ unit: 'binary', minLength: 1, maxLength: 12 }),
      );
      const entry = fc.record({
        mode: fc.constantFrom('100644', '100755', '120000', '40000', '160000', '000000'),
        name,
      });
      await fc.assert(
        fc.asyncProperty(
          fc.array(entry, { maxLength: 6 }),
          fc.string({ unit: 'binary', maxLength: 200 }),
          async (entries, words) => {
            const tree = Buffer.concat(
              entries.flatMap((one) => [
                Buffer.from(`${one.mode} ${one.name.replaceAll('\0', '')}\0`, 'utf8'),
                Buffer.from(one.mode === '40000' ? '4b825dc642cb6eb9a060e54bf8d69288fbee4904' : blob, 'hex'),
              ]),
            );
            git(['hash-object', '-w', '-t', 'tree', '--stdin'], '');
            const id = git(['hash-object', '-w', '-t', 'tree', '--literally', '--stdin'], tree).toString().trim();
            const commit = git(
              ['hash-object', '-w', '-t', 'commit', '--literally', '--stdin'],
              Buffer.from(`tree ${id}\nauthor ${words}\ncommitter x <y> 1 +0000\n\n${words}`),
            )
              .toString()
              .trim();
            await ends(listFiles(repository, commit, '')).catch(coded);
            await ends(readFile(repository, commit, 'tsunagi.yaml', 1_000)).catch(coded);
            const facts = await commitFacts(repository, commit);
            // biome-ignore lint/suspicious/noControlCharactersInRegex: none of them may be in there
            expect(`${facts?.title}${facts?.author}`).not.toMatch(/[\u0000-\u001f]/);
          },
        ),
        budget,
      );
    },
    patience,
  );

  it(
    'a push of any bytes is answered, and leaves no git behind',
    async () => {
      const line = (value: string) => (value.length + 4).toString(16).padStart(4, '0') + value;
      await fc.assert(
        fc.asyncProperty(fc.uint8Array({ maxLength: 400 }), async (bytes) => {
          const head = Buffer.from(
            `${line(`${'0'.repeat(40)} ${'c'.repeat(40)} refs/heads/main\0 report-status`)}0000PACK`,
            'latin1',
          );
          const answer = exchange(repository, 'git-receive-pack', Readable.from([head, Buffer.from(bytes)]), '');
          const parts: Buffer[] = [];
          await ends(
            (async () => {
              for await (const chunk of answer) parts.push(chunk as Buffer);
            })(),
          );
          expect(Buffer.concat(parts).toString('latin1')).not.toContain('ok refs/heads/main');
        }),
        budget,
      );
      expect(git(['for-each-ref']).toString()).toBe('');
    },
    patience,
  );
});

describe('an event’s signature', () => {
  it(
    'fits its body alone',
    () => {
      fc.assert(
        fc.property(
          fc.string({ minLength: 1 }),
          fc.string({ minLength: 1, maxLength: 99 }),
          text,
          text,
          (secret, id, body, other) => {
            const now = 1_800_000_000_000;
            const headers = signEvent(secret, id, body, now);
            expect(checkEvent(secret, headers, body, now)).toBe('good');
            expect(checkEvent(secret, headers, `${body}x`, now)).toBe('wrong');
            expect(checkEvent(secret, headers, body, now + 301_000)).toBe('old');
            for (const name of Object.keys(headers))
              if (other !== headers[name])
                expect(checkEvent(secret, { ...headers, [name]: other }, body, now)).toBe('wrong');
          },
        ),
        budget,
      );
    },
    patience,
  );
});
