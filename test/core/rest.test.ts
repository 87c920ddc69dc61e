import { table } from '../../src/cli/print.js';
import { createHmac } from 'node:crypto';
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { splitSections } from '../../src/agent/log/sections.js';
import { clientText } from '../../src/core/clients.js';
import { canonical, digestOf } from '../../src/core/canonical.js';
import { diagnoseInstance } from '../../src/core/diagnose/instance.js';
import { durationSource, durationText, parseDuration } from '../../src/core/durations.js';
import { CodedError, lists, registry, wording } from '../../src/core/errors/errors.js';
import { fingerprint, fingerprintInputs } from '../../src/core/fingerprint/inputs.js';
import { nearest } from '../../src/core/nearest.js';
import { select, unsafePath } from '../../src/core/paths.js';
import { pinTools, planRun } from '../../src/core/plan/plan.js';
import { releaseImage } from '../../src/core/release/image.js';
import { parseJunit } from '../../src/core/results/junit.js';
import { changedVariables, resolveVariables, settable } from '../../src/core/variables/resolve.js';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { sealHash } from '../../src/keys/keys.js';
import { checkEvent, newEventSecret, signEvent } from '../../src/keys/webhooks.js';

describe('a table of the command line', () => {
  it('is aligned by the cells that letters take', () => {
    const rows = ['plain', '船です', 'e\u0301te\u0301', '👩‍👩‍👧', '\u001b[31mred\u001b[39m', ''].map((one) => [
      one,
      '|',
    ]);
    const lines = table(['WHAT', ''], rows).split('\n').slice(1);
    // What stands before the bar, with as many cells each: wide ones take two, marks and colours none, a joined picture that of its first.
    const cells = [5, 6, 3, 2, 3, 0];
    expect(lines.map((line) => line.length - [...line].length >= 0 && line.endsWith('|'))).toEqual(
      cells.map(() => true),
    );
    const spaces = lines.map((line) => / *\|$/.exec(line)?.[0].length ?? 0);
    expect(spaces.map((count, at) => count - 1 + (cells[at] ?? 0))).toEqual(cells.map(() => 8));
  });
});

describe('a program that calls', () => {
  it.each([
    ['Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 Chrome/141.0 Safari/537.36', 'Chrome on Linux'],
    ['Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) Version/18.0 Safari/604.1', 'Safari on iPhone'],
    ['Mozilla/5.0 (Windows NT 10.0; Win64) Chrome/141.0 Safari/537.36 Edg/141.0', 'Edge on Windows NT 10.0'],
    ['curl/8.1', 'curl/8.1'],
    ['', 'unknown'],
  ])('%s is %s', (words, name) => expect(clientText(words)).toBe(name));
});

describe('the registry of errors', () => {
  it('fills in every place of its texts and has a status for each code', () => {
    for (const [code, entry] of Object.entries(registry)) {
      expect(code).toMatch(/^[a-z_]+$/);
      expect(entry.status).toBeGreaterThanOrEqual(200);
      const names = [...`${entry.says} ${entry.next}`.matchAll(/\{(\w+)\}/g)].map((match) => match[1] as string);
      const { says, next } = wording({
        code: code as never,
        data: Object.fromEntries(names.map((name) => [name, 'X'])),
      });
      // A place that stayed open has a name alone in its braces: an example of the definition has more.
      expect(`${says}${next}`).not.toMatch(/\{\w*\}|undefined/);
      expect(says).toMatch(/[.?X:}]$/);
    }
  });
  it('has each code once: a second one would take the words of the first', () => {
    const codes = lists.flatMap((list) => Object.keys(list));
    expect(codes).toEqual([...new Set(codes)]);
    expect(codes.sort()).toEqual(Object.keys(registry).sort());
  });
  it('keeps the cause of what is wrapped', () => {
    const cause = new Error('below');
    expect(new CodedError('internal', { reference: 'x' }, cause).cause).toBe(cause);
  });
});

describe('canonical JSON', () => {
  it('does not depend on the order of keys', () => {
    fc.assert(
      fc.property(fc.dictionary(fc.string(), fc.jsonValue()), (value) => {
        const turned = Object.fromEntries(Object.entries(value).reverse());
        expect(canonical(turned)).toBe(canonical(value));
        expect(digestOf(JSON.parse(canonical(value)))).toBe(digestOf(value));
      }),
    );
  });
});

describe('durations', () => {
  it('are read and written', () => {
    expect(['90s', '10m', '2h', '3d', '0s', '5', 'm'].map(parseDuration)).toEqual([
      90_000,
      600_000,
      7_200_000,
      259_200_000,
      null,
      null,
      null,
    ]);
    expect([200, 41_000, 72_000, 7_800_000, 3 * 86_400_000].map(durationText)).toEqual([
      '0.2 s',
      '41 s',
      '1 min 12 s',
      '2 h 10 min',
      '3 days',
    ]);
    expect([90_000, 600_000].map(durationSource)).toEqual(['90s', '10m']);
  });
});

describe('patterns', () => {
  const paths = [
    'package.json',
    'src/a.js',
    'src/b/c.js',
    'src/b/c.md',
    'contract/x.js',
    'contract/drafts/y.js',
    '.env',
    'srcs/z.js',
    'a[1].txt',
    'a{b}.txt',
  ];
  const chosen = (...patterns: string[]) => select(paths, patterns).paths;

  it('mean a file, a whole folder, or what * and ** match, dotfiles included', () => {
    expect(chosen('src/')).toEqual(['src/a.js', 'src/b/c.js', 'src/b/c.md']);
    expect(chosen('src/*.js')).toEqual(['src/a.js']);
    expect(chosen('src/**/*.js')).toEqual(['src/a.js', 'src/b/c.js']);
    expect(chosen('contract/', 'except contract/drafts/')).toEqual(['contract/x.js']);
    expect(chosen('*')).toContain('.env');
    expect(chosen('a[1].txt', 'a{b}.txt')).toEqual(['a[1].txt', 'a{b}.txt']);
    expect(select(paths, null).paths).toEqual(paths);
  });
  it('are named when they choose nothing', () => {
    expect(select(paths, ['src/', 'nothing/', 'except never/']).idle).toEqual(['nothing/', 'except never/']);
  });
  it('refuse what leaves the folder, for any path that climbs', () => {
    fc.assert(
      fc.property(fc.array(fc.constantFrom('a', '..', '.', '', 'b c', 'é'), { minLength: 1 }), (steps) => {
        const path = steps.join('/');
        if (steps.includes('..')) expect(unsafePath(path)).not.toBeNull();
        else if (steps.every((step) => step !== '.' && step !== '')) expect(unsafePath(path)).toBeNull();
      }),
    );
  });
  it('find the nearest name', () => {
    expect(nearest('biuld', ['build', 'unit'])).toBe('build');
    expect(nearest('zzz', ['build', 'unit'])).toBeNull();
  });
});

describe('a fingerprint', () => {
  const { definition } = parseDefinition(
    'tsunagi: 1\ntools: { node: ">=20" }\ntasks:\n  deps: { run: npm ci, makes: [node_modules/] }\n  unit: { needs: [deps], reads: [src/], run: npm test, variables: { A: "1" } }\n',
  );
  const [, unit] = planRun(definition as never, [], { branch: 'main', pullRequest: null }).tasks.map((one) => one.task);
  const files = [
    { path: 'src/a.js', mode: '100644', id: 'aa' },
    { path: 'src/b.js', mode: '100644', id: 'bb' },
  ];
  const needs = [{ need: 'deps', makes: ['node_modules'], digest: `sha256:${'1'.repeat(64)}` }];
  const context = {
    project: { name: 'sailings' },
    run: { commit: 'c1', branch: 'main' },
    folder: '',
    versions: { node: '20.1.0' },
    base: 'b',
  };
  const of = (change: { task?: object; files?: typeof files; needs?: typeof needs; context?: object } = {}) =>
    fingerprint(
      fingerprintInputs(
        { ...(unit as object), ...change.task } as never,
        change.files ?? files,
        change.needs ?? needs,
        { ...context, ...change.context },
      ),
    );

  it('is the same for the same inputs in another order', () => {
    expect(of({ files: [...files].reverse() })).toBe(of());
  });
  it.each([
    ['a command', { task: { run: ['npm test -- -x'] } }],
    ['a variable', { task: { variables: { A: '2' } } }],
    ['network', { task: { network: true } }],
    ['an output', { task: { makes: ['x'] } }],
    ['results', { task: { results: 'x.xml' } }],
    ['a file', { files: [{ ...(files[0] as (typeof files)[0]), id: 'cc' }, files[1] as (typeof files)[0]] }],
    ['a mode', { files: [{ ...(files[0] as (typeof files)[0]), mode: '100755' }, files[1] as (typeof files)[0]] }],
    ['a need’s output', { needs: [{ ...(needs[0] as (typeof needs)[0]), digest: `sha256:${'2'.repeat(64)}` }] }],
    ['a tool version', { context: { versions: { node: '20.1.1' } } }],
    ['the base', { context: { base: 'c' } }],
    ['the project', { context: { project: { name: 'prices' } } }],
    ['the folder', { context: { folder: 'app' } }],
  ])('changes with %s', (_name, change) => {
    expect(of(change)).not.toBe(of());
  });
});

describe('a plan', () => {
  const { definition } = parseDefinition(
    'tsunagi: 1\ntasks:\n  b: { needs: [a], run: x, reads: [src/] }\n  a: { run: x }\n',
  );
  const main = { branch: 'main', pullRequest: null };
  const file = (path: string | null, mode = '100644') => ({
    path,
    shown: path ?? 'bad\\xff',
    mode,
    id: 'a'.repeat(40),
  });

  it('puts needs first and gives each task the files it reads', () => {
    const plan = planRun(definition as never, [file('src/x'), file('y'), file('sub', '160000')], main);
    expect(plan.tasks.map((one) => [one.task.name, one.files.length])).toEqual([
      ['a', 2],
      ['b', 1],
    ]);
    expect(plan.issues).toEqual([]);
  });
  it('names files whose names cannot be laid out', () => {
    expect(
      planRun(definition as never, [file(null), file(`${'n'.repeat(256)}/x`)], main).issues.map((one) => one.code),
    ).toEqual(['path_not_text', 'path_unusable']);
  });
  it('pins the newest version that will do, and says what is missing', () => {
    const agents = [
      { tools: { node: '20.20.2' }, base: 'a' },
      { tools: { node: '22.1.0' }, base: 'b' },
    ];
    expect(pinTools({ node: '>=20 <23' }, agents)).toEqual({ versions: { node: '22.1.0' }, base: 'b' });
    expect(pinTools({ node: '^20' }, agents)).toEqual({ versions: { node: '20.20.2' }, base: 'a' });
    expect(pinTools({ node: '18' }, agents)).toMatchObject({
      code: 'no_agent_for_versions',
      data: { tool: 'node', have: '20.20.2, 22.1.0' },
    });
    expect(pinTools({}, [])).toBeNull();
  });
});

describe('a release', () => {
  const part = parseDefinition('tsunagi: 1\nrelease:\n  parts:\n    api: { kind: server, start: node api.js }\n')
    .definition?.release?.parts.api as never;
  const layer = { digest: `sha256:${'1'.repeat(64)}`, size: 10, from: 'files' };

  it('has the same digest for the same bytes and commit, another for others', () => {
    const of = (layers: (typeof layer)[], commit: string) =>
      releaseImage([{ part, layers }], { project: 'p', commit, architecture: 'amd64' }).digest;
    expect(of([layer], 'c')).toBe(of([layer], 'c'));
    expect(of([layer], 'd')).not.toBe(of([layer], 'c'));
    expect(of([], 'c')).not.toBe(of([layer], 'c'));
  });
  it('has a part that no commit has changed as the same bytes, wherever it is made', () => {
    const of = (commit: string, project: string) =>
      releaseImage([{ part, layers: [layer] }], { project, commit, architecture: 'amd64' }).parts[0]?.digest;
    expect(of('d', 'p')).toBe(of('c', 'q'));
  });
  it('is an index whose manifests and configs are among its documents', () => {
    const facts = { project: 'p', commit: 'c', architecture: 'amd64' };
    const image = releaseImage([{ part, layers: [layer] }], facts);
    const documents = new Map(image.documents.map((one) => [one.digest, JSON.parse(one.text)]));
    const manifest = documents.get(documents.get(image.digest).manifests[0].digest);
    expect(manifest.layers[0]).toMatchObject({ digest: layer.digest, size: 10 });
    const { config, rootfs } = documents.get(manifest.config.digest);
    expect(config).toMatchObject({ Cmd: expect.arrayContaining(['node api.js']), WorkingDir: '/' });
    expect(config.ExposedPorts).toEqual({ '8080/tcp': {} });
    expect(rootfs.diff_ids).toEqual([layer.digest]);
    // What the definition says has its share in the digest, also where no image has a place for it.
    const elsewhere = { ...(part as object), at: '/other' } as never;
    expect(releaseImage([{ part: elsewhere, layers: [layer] }], facts).digest).not.toBe(image.digest);
  });
});

describe('JUnit XML', () => {
  it('gives the cases, failing ones first, with message and place', () => {
    const { results } = parseJunit(
      `<?xml version="1.0"?><testsuites><testsuite name="day view"><testcase name="ok" classname="test" time="0.004"/><testcase name="bad" classname="test"><failure message="expected a received b">expected a\nreceived b\n at file:///project/test/day.test.js:48:12</failure></testcase><testcase name="no"><skipped/></testcase></testsuite></testsuites>`,
    );
    expect(results).toMatchObject({ passed: 1, failed: 1, skipped: 1 });
    expect(results?.cases[0]).toMatchObject({
      name: 'bad',
      group: 'day view',
      place: 'test/day.test.js:48',
      message: expect.stringMatching(/^expected a\nreceived b/),
    });
    expect(results?.cases.find((one) => one.name === 'ok')?.ms).toBe(4);
  });
  it('never throws', () => {
    expect(parseJunit('<html></html>').detail).toMatch(/html/);
    expect(parseJunit('').detail).not.toBeNull();
    fc.assert(
      fc.property(
        fc.oneof(
          fc.string(),
          fc
            .array(
              fc.constantFrom(
                '<testsuite>',
                '</testsuite>',
                '<testcase name="a">',
                '</testcase>',
                '<failure>',
                '&#x0;',
                '<![CDATA[',
                ']]>',
                '&bad;',
              ),
            )
            .map((parts) => parts.join('')),
        ),
        (text) => {
          const { results, detail } = parseJunit(text);
          expect(results === null).toBe(detail !== null);
        },
      ),
    );
  });
});

describe('variables', () => {
  it('come as literals, defaults or references, and say what is unset', () => {
    const at = {
      environment: { name: 'staging', url: 'http://s' },
      release: { number: 7, commit: 'c' },
      project: { name: 'p' },
    };
    const plan = (from: string, append = '') => ({ kind: 'from' as const, from, append });
    expect(
      resolveVariables(
        {
          A: { kind: 'literal', value: '1' },
          B: { kind: 'set', default: 'b', secret: false, about: null, untrusted: null },
          C: { kind: 'set', default: null, secret: false, about: null, untrusted: null },
          D: plan('environment.url', '/api'),
          E: plan('release.number'),
          F: plan('project.name'),
          G: plan('release.commit'),
          H: plan('environment.name'),
        },
        at,
      ),
    ).toEqual({
      values: { A: '1', B: 'b', D: 'http://s/api', E: 'r7', F: 'p', G: 'c', H: 'staging' },
      secrets: {},
      unset: ['C'],
    });
  });

  it('that people set go before defaults; those of secrets are told by their place, with what is put behind', () => {
    const at = {
      environment: { name: 'staging', url: 'http://s' },
      release: { number: 7, commit: 'c' },
      project: { name: 'p' },
    };
    const wanted = (more: object = {}) => ({
      kind: 'set' as const,
      default: null,
      secret: false,
      about: null,
      untrusted: null,
      ...more,
    });
    const plans = {
      A: wanted({ default: 'a' }),
      B: wanted(),
      C: { kind: 'from' as const, from: 'variable.B', append: '!' },
      D: { kind: 'from' as const, from: 'variable.X', append: '' },
      E: wanted(),
    };
    const set = new Map([
      ['A', { scope: '', version: 1, value: 'set' }],
      ['B', { scope: 'staging', version: 4, value: null }],
    ]);
    expect(resolveVariables(plans, at, set)).toEqual({
      values: { A: 'set' },
      secrets: {
        B: { scope: 'staging', name: 'B', version: 4, append: '' },
        C: { scope: 'staging', name: 'B', version: 4, append: '!' },
      },
      unset: ['X', 'E'],
    });
    expect(settable(plans)).toEqual(['A', 'B', 'B', 'X', 'E']);
  });

  it('that have changed are told by name', () => {
    const place = { scope: '', name: 'K', version: 1, append: '' };
    const before = { values: { A: '1', B: '2' }, secrets: { K: place, L: place } };
    expect(changedVariables(before, before)).toEqual([]);
    expect(
      changedVariables(before, { values: { A: '1', B: '3', C: '' }, secrets: { K: { ...place, version: 2 } } }),
    ).toEqual(['B', 'C', 'K', 'L']);
  });
});

describe('why an instance is not ready', () => {
  const facts = {
    part: 'api',
    kind: 'server' as const,
    exit: null,
    served: false,
    port: 41873,
    listening: [],
    ready: null,
    answer: null,
    waitedMs: 60_000,
    lastLines: [],
    oneAddress: null,
    outOfMemory: null,
    program: {
      command: 'node server.js',
      variables: ['PORT'],
      tools: { node: '20.20.2' },
      files: ['server.js', 'src/x.js'],
      network: true,
    },
  };
  it('is said in words', () => {
    const says = (change: object) => wording(diagnoseInstance({ ...facts, ...change })).says;
    expect(says({ listening: [8000] })).toBe('api listens on 8000, it was given PORT=41873.');
    expect(says({})).toContain('did not listen on PORT=41873 within 1 min');
    expect(says({ listening: [41873], ready: '/ready', answer: '503' })).toContain('answered 503 at /ready');
    expect(says({ exit: 1, lastLines: ['starting', "Error: Cannot find module 'x'", '    at f (a.js:1)', ''] })).toBe(
      'api: the package x is not installed.',
    );
  });
});

describe('small parts', () => {
  it('sections are split at the marks, wherever the chunks are cut', () => {
    fc.assert(
      fc.property(
        fc.array(fc.uint8Array({ maxLength: 20 }), { minLength: 1, maxLength: 4 }),
        fc.integer({ min: 1, max: 7 }),
        (sections, size) => {
          const all = Buffer.concat(sections.flatMap((bytes) => [Buffer.from(bytes), Buffer.from('\0mark\0')]));
          const split = splitSections('mark');
          const out: Buffer[][] = sections.map(() => []);
          const take = (pieces: { section: number; bytes: Buffer }[]) => {
            for (const piece of pieces) out[piece.section]?.push(piece.bytes);
          };
          for (let at = 0; at < all.length; at += size) take(split.push(all.subarray(at, at + size)));
          take(split.end());
          if (!sections.some((bytes) => Buffer.from(bytes).includes(0)))
            expect(out.map((pieces) => Buffer.concat(pieces).toString('hex'))).toEqual(
              sections.map((bytes) => Buffer.from(bytes).toString('hex')),
            );
        },
      ),
    );
  });
  it('signatures hold for five minutes, for that body and secret', () => {
    const now = 1_790_000_000_000;
    for (const secret of ['secret', newEventSecret()]) {
      const headers = signEvent(secret, 'e-1', 'body', now);
      expect(checkEvent(secret, headers, 'body', now + 299_000)).toBe('good');
      expect(checkEvent(secret, headers, 'body', now + 301_000)).toBe('old');
      expect(checkEvent(secret, headers, 'body', now - 301_000)).toBe('old');
      expect(checkEvent(secret, headers, 'other', now)).toBe('wrong');
      expect(checkEvent('other', headers, 'body', now)).toBe('wrong');
      for (const name of Object.keys(headers)) {
        expect(checkEvent(secret, { ...headers, [name]: undefined }, 'body', now)).toBe('wrong');
        expect(checkEvent(secret, { ...headers, [name]: `${headers[name]}0` }, 'body', now)).toBe('wrong');
      }
      const several = `v1,${'A'.repeat(44)} ${headers['webhook-signature']}`;
      expect(checkEvent(secret, { ...headers, 'webhook-signature': several }, 'body', now)).toBe('good');
    }
  });
  it('signatures are those of the specification: another implementation takes ours, and we take its own', () => {
    // The example of the specification.
    const secret = 'whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw';
    const body = '{"test": 2432232314}';
    expect(signEvent(secret, 'msg_p5jXN8AQM9LWM0D4loKWxJek', body, 1_614_265_330_000)).toEqual({
      'webhook-id': 'msg_p5jXN8AQM9LWM0D4loKWxJek',
      'webhook-timestamp': '1614265330',
      'webhook-signature': 'v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=',
    });
    const signature = createHmac('sha256', Buffer.from(secret.slice(6), 'base64')).update(`e.1700000000.${body}`);
    const headers = {
      'webhook-id': 'e',
      'webhook-timestamp': '1700000000',
      'webhook-signature': `v1,${signature.digest('base64')}`,
    };
    expect(checkEvent(secret, headers, body, 1_700_000_000_000)).toBe('good');
  });
  it('a seal covers each event and the seal before', () => {
    expect(sealHash(['ab', 'c'], null)).not.toEqual(sealHash(['a', 'bc'], null));
    expect(sealHash(['a'], Buffer.from('x'))).not.toEqual(sealHash(['a'], null));
  });
});
