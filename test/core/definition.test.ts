import { describe, expect, it } from '@jest/globals';
import Ajv2020 from 'ajv/dist/2020.js';
import fc from 'fast-check';
import { parse } from 'yaml';
import { checkAgainst } from '../../src/core/definition/check.js';
import { defaultIdle, evidenceTasks } from '../../src/core/definition/model.js';
import { definitionLimit, parseDefinition } from '../../src/core/definition/parse.js';
import { definitionSchema } from '../../src/core/definition/schema.js';
import { storedDefinition } from '../../src/core/definition/stored.js';
import { wording } from '../../src/core/errors/errors.js';
import { history } from '../../demo/scenario/sailings.js';

const sailings = history.find((change) => change.files['tsunagi.yaml'])?.files['tsunagi.yaml'] as string;
const codes = (text: string) => parseDefinition(text).issues.map((one) => `${one.line}:${one.column} ${one.code}`);
const task = (lines: string) => `tsunagi: 1\ntasks:\n  unit:\n    run: npm test\n${lines}`;

describe('a definition', () => {
  it('becomes a model with every default filled in', () => {
    const { definition, issues } = parseDefinition(sailings);
    expect(issues).toEqual([]);
    expect(definition?.tasks.lint).toMatchObject({
      name: 'lint',
      needs: [],
      makes: [],
      network: false,
      timeout: 1_800_000,
      results: null,
      coverage: null,
    });
    expect(definition?.tasks.unit).toMatchObject({ timeout: 120_000, results: 'out/junit.xml' });
    expect(definition?.tasks.web?.makes).toEqual(['web/dist']);
    expect(definition?.release?.parts.api).toMatchObject({
      kind: 'server',
      at: '/api',
      instances: 2,
      ready: '/api/ready',
    });
    expect(definition?.release?.parts.departures).toMatchObject({
      files: [],
      root: 'web/dist',
      fallback: 'index.html',
    });
    expect(definition?.release?.variables.PUBLIC_URL).toEqual({ kind: 'from', from: 'environment.url', append: '' });
    expect(definition?.environments.production).toMatchObject({ after: 'staging', promotion: 'manual', verify: null });
  });

  it('counts the needs of parts among the evidence', () => {
    expect(evidenceTasks(parseDefinition(sailings).definition as never).sort()).toEqual(['lint', 'unit', 'web']);
  });

  it('takes scalars by their source text', () => {
    const { definition } = parseDefinition(
      task('    variables: { VERSION: 1.10, ON: yes, EMPTY: "", DATE: 2026-01-02 }\n'),
    );
    expect(definition?.tasks.unit?.variables).toEqual({ VERSION: '1.10', ON: 'yes', EMPTY: '', DATE: '2026-01-02' });
  });

  it('reports all mistakes in one pass, each at its line and column', () => {
    const text = `tsunagi: 2\ntasks:\n  unit:\n    nedes: [deps]\n    needs: [dep]\n    run: []\n  deps: { run: npm ci, timeout: soon }\nrelease:\n  parts:\n    web: { kind: site }\n`;
    expect(codes(text)).toEqual([
      '1:10 wrong_choice',
      '4:5 unknown_key',
      '5:13 unknown_task',
      '6:10 wrong_kind',
      '7:33 wrong_text',
      '10:5 required_key',
    ]);
  });

  it('knows the names of the tools', () => {
    expect(codes('tsunagi: 1\ntools: { node: ">=20", pyhton: ">=3" }\ntasks: { unit: { run: npm test } }\n')).toEqual([
      '2:24 unknown_tool',
    ]);
  });

  it('names the nearest known name', () => {
    const hint = (text: string) => wording(parseDefinition(text).issues[0] as never).next;
    expect(hint(task('    tiemout: 10m\n'))).toBe('Did you mean `timeout`?');
    expect(hint(`tsunagi: 1\ntasks:\n  build: { run: make }\n  unit: { run: make test, needs: [biuld] }\n`)).toBe(
      'Did you mean `build`?',
    );
    expect(hint('tsunagi: 1\nenvironments:\n  staging: { branch: main }\n  production: { after: stagng }\n')).toBe(
      'Did you mean `staging`?',
    );
  });

  it('reads when reviews sleep and close, with what is left out as it is by default', () => {
    const plan = (idle: string) =>
      parseDefinition(`tsunagi: 1\nenvironments:\n  review: { for: pull requests, idle: ${idle} }\n`).definition
        ?.environments.review?.idle;
    expect(plan('{ sleep: 5m, close: never }')).toEqual({ ...defaultIdle, sleep: 300_000, close: null });
    expect(
      plan(
        '{ end: 1h, awake_limit: 6, count: workers, except: { paths: /health, headers: { User-Agent: ["*bot*"] } } }',
      ),
    ).toEqual({
      ...defaultIdle,
      end: 3_600_000,
      awakeLimit: 6,
      count: ['workers'],
      except: { paths: ['/health'], headers: { 'user-agent': ['*bot*'] } },
    });
    expect(codes('tsunagi: 1\nenvironments:\n  staging: { branch: main, idle: { sleep: 5m } }\n')).toEqual([
      '3:28 key_not_for',
    ]);
    expect(codes('tsunagi: 1\nenvironments:\n  review: { for: pull requests, idle: { sleep: often } }\n')).toHaveLength(
      1,
    );
  });

  it('knows the part that fills new data', () => {
    const file = (part: string) =>
      `tsunagi: 1\nrelease:\n  parts:\n    page: { kind: site, root: web }\n    api: { kind: server, start: node a.js, at: /api }\nenvironments:\n  review: { for: pull requests, seed: { part: ${part}, run: node seed.js } }\n`;
    expect(parseDefinition(file('api')).definition?.environments.review?.seed).toEqual({
      part: 'api',
      run: 'node seed.js',
    });
    expect(codes(file('apo'))).toEqual(['7:47 unknown_part']);
    expect(codes(file('page'))).toEqual(['7:47 key_not_for']);
  });

  it('knows the pages of which pictures are taken', () => {
    const file = (pages: string) => `tsunagi: 1\nenvironments:\n  staging: { branch: main, pictures: ${pages} }\n`;
    const of = (pages: string) => parseDefinition(file(pages)).definition?.environments.staging?.pictures;
    expect(of('/')).toEqual(['/']);
    expect(of('[/, "/departures?day=1", /]')).toEqual(['/', '/departures?day=1']);
    expect(of('[]')).toEqual([]);
    for (const page of ['departures', '"/a b"', '"/a#b"', '"/\\x01"', `/${'a'.repeat(301)}`])
      expect(codes(file(`[${page}]`))).toEqual(['3:39 wrong_text']);
    const many = Array.from({ length: 9 }, (_, at) => `/${at}`);
    expect(codes(file(`[${many}]`))).toEqual(['3:38 list_long']);
    expect(
      parseDefinition('tsunagi: 1\nenvironments:\n  staging: { branch: main }\n').definition?.environments.staging,
    ).not.toHaveProperty('pictures');
  });

  it('refuses a later key by name', () => {
    expect(codes('tsunagi: 1\ntasks:\n  unit: { run: x, where: big }\n')).toEqual(['3:19 not_yet_supported']);
  });

  it('reads the rules of an environment', () => {
    const of = (rules: string) => {
      const text = `tsunagi: 1\nenvironments:\n  staging: { branch: main }\n  production: { ${rules} }\n`;
      const { definition, issues } = parseDefinition(text);
      return definition?.environments.production ?? issues.map((one) => one.code);
    };
    expect(of('after: { environment: staging, healthy: 15m }, approvals: 2, warm: 1h')).toMatchObject({
      after: 'staging',
      healthy: 900_000,
      approvals: 2,
      warm: 3_600_000,
    });
    expect(of('after: staging, frozen: "fri 16:00 to mon 07:00 Europe/Oslo"')).toMatchObject({
      frozen: ['fri 16:00 to mon 07:00 Europe/Oslo'],
    });
    for (const key of ['healthy', 'approvals', 'frozen', 'warm'])
      expect(of('after: staging, approvals: 0')).not.toHaveProperty(key);
    expect(of('after: staging, frozen: [fri 16:00 to mon 07:00 Europe/Atlantis]')).toEqual(['wrong_text']);
    expect(of('after: staging, frozen: [22:00 to 22:00 Asia/Tokyo]')).toEqual(['wrong_text']);
    expect(of('after: staging, approvals: 21')).toEqual(['wrong_text']);
    expect(of('after: staging, warm: 8d')).toEqual(['wrong_text']);
    expect(of('branch: main, approvals: 1')).toEqual(['key_not_for']);
    expect(
      of('after: staging, cutover: [10% for 2m, 50% for 2m], guard: { errors: 1%, p95: 800ms, few: wait }'),
    ).toMatchObject({
      cutover: {
        mirrorMs: null,
        shares: [
          { share: 1_000, ms: 120_000 },
          { share: 5_000, ms: 120_000 },
        ],
      },
      guard: { errors: 0.01, p95Ms: 800, few: 'wait' },
    });
    expect(
      of('after: staging, cutover: [mirror for 5m, 10% for 2m], mirror: { paths: [/api/], same: [/api/departures] }'),
    ).toMatchObject({
      cutover: { mirrorMs: 300_000 },
      mirror: { paths: ['/api'], same: ['/api/departures'] },
    });
    expect(of('after: staging, cutover: [10% for 2m, mirror for 5m]')).toEqual(['cutover_order']);
    expect(of('after: staging, cutover: 25% for 1h')).toMatchObject({ cutover: { shares: [{ share: 2_500 }] } });
    expect(of('after: staging, cutover: [50% for 2m, 10% for 2m]')).toEqual(['cutover_order']);
    for (const wrong of ['10% for 5s', '100% for 2m', '0% for 2m', 'half for 2m', '10% for 2d'])
      expect(of(`after: staging, cutover: [${wrong}]`)).toEqual(['wrong_text']);
    expect(of('after: staging, guard: { errors: 60% }')).toEqual(['wrong_text']);
    expect(of('after: staging, guard: { p95: 61s }')).toEqual(['wrong_text']);
    expect(of('for: pull requests, cutover: 10% for 2m')).toEqual(['key_not_for']);
    expect(of('for: pull requests, frozen: ["22:00 to 06:00 Asia/Tokyo"]')).toEqual(['key_not_for']);
  });

  it('refuses what is YAML and not of the language', () => {
    expect(codes('tsunagi: 1\ntools: { node: !!str 20 }\n')).toEqual(['2:22 yaml_feature']);
    expect(codes('tsunagi: 1\ntools: &v { node: "20" }\n')).toEqual(['2:11 yaml_feature']);
    expect(codes('tsunagi: 1\ntools: { node: "20", java: *v }\n').some((one) => one.includes('yaml'))).toBe(true);
    expect(codes('tsunagi: 1\ntsunagi: 1\n')).toEqual(['2:1 repeated_key']);
    expect(codes('tsunagi: [1\n').some((one) => one.includes('yaml_syntax'))).toBe(true);
  });

  it('names the new name of a key that had another', () => {
    const old = (text: string) => parseDefinition(text).issues.map((one) => [one.code, one.data.key, one.data.now]);
    expect(old('tsunagi: 1\nversions: { node: ">=20" }\n')).toEqual([['key_renamed', 'versions', 'tools']]);
    expect(old('tsunagi: 1\nenvironments: { review: { opens: pull request } }\n')).toEqual([
      ['key_renamed', 'opens', 'for: pull requests'],
    ]);
    const part = 'parts: { p: { kind: worker, start: x } }';
    expect(
      old(`tsunagi: 1\nrelease: { ${part}, variables: { K: { secret: true, strangers: x, then: y } } }\n`),
    ).toEqual([
      ['key_renamed', 'strangers', 'untrusted'],
      ['key_renamed', 'then', 'append'],
    ]);
  });

  it('takes `after` as a name, and as a map for what else must hold', () => {
    const text = (after: string) =>
      `tsunagi: 1\nenvironments:\n  staging: { branch: main }\n  production: { after: ${after} }\n`;
    expect(parseDefinition(text('{ environment: staging }')).definition?.environments.production?.after).toBe(
      'staging',
    );
    expect(codes(text('{ environment: stagin }'))).toEqual(['4:24 unknown_environment']);
    expect(codes(text('{ environment: staging, healthy: 15m }'))).toEqual([]);
    expect(codes(text('{ healthy: 15m }'))).toContain('4:24 required_key');
  });

  it('refuses an environment whose page would hide behind those of its project', () => {
    for (const name of ['compare', 'releases', 'runs'])
      expect(codes(`tsunagi: 1\nenvironments:\n  ${name}: {}\n  ${name}2: {}\n`)).toEqual([
        '3:3 environment_unnamable',
      ]);
  });

  it('refuses circles, double addresses, taken names and variables', () => {
    expect(codes('tsunagi: 1\ntasks:\n  a: { run: x, needs: [b] }\n  b: { run: x, needs: [a] }\n')).toEqual([
      '3:3 needs_in_circle',
    ]);
    const parts = (lines: string) => `tsunagi: 1\nrelease:\n  parts:\n${lines}`;
    expect(codes(parts('    a: { kind: server, start: x }\n    b: { kind: server, start: x }\n'))).toEqual([
      '5:5 same_address',
    ]);
    expect(codes(parts('    release: { kind: server, start: x }\n'))).toEqual(['4:5 taken_name']);
    expect(codes(parts('    a: { kind: worker, start: x, at: /x }\n'))).toEqual(['4:34 key_not_for']);
    expect(codes(task('    variables: { PORT: 1 }\n'))).toEqual(['5:18 taken_variable']);
    expect(codes('tsunagi: 1\nenvironments:\n  a: { after: b }\n  b: { after: a }\n')).toEqual(['3:3 needs_in_circle']);
  });

  it('refuses paths that leave the folder', () => {
    for (const path of ['../x', '/etc', 'a/../../b', 'a//b', './a'])
      expect(codes(task(`    makes: ["${path}"]\n`))).toEqual(['5:13 wrong_text']);
    expect(codes(task('    reads: ["except ../x"]\n'))).toEqual(['5:13 wrong_text']);
  });

  it('refuses text that is too large or not UTF-8, and an empty one', () => {
    expect(parseDefinition(Buffer.from([0x74, 0xff, 0xfe])).issues[0]?.code).toBe('encoding');
    expect(parseDefinition('#'.repeat(definitionLimit + 1)).issues[0]?.code).toBe('definition_too_large');
    expect(parseDefinition('').issues[0]?.code).toBe('required_key');
  });

  it('never throws, and gives either a model or an error', () => {
    const word = fc.constantFrom(
      'tsunagi',
      '1',
      'tasks',
      'run',
      'needs',
      'release',
      'parts',
      'kind',
      'site',
      ':',
      '-',
      '[',
      ']',
      '{',
      '}',
      '\n',
      '  ',
      '&a',
      '*a',
      '!t',
      '"',
      "'",
      '|',
      '>',
      '?',
      '#',
      '\t',
      '%',
      '@',
      'é',
      '\u0000',
    );
    fc.assert(
      fc.property(
        fc.oneof(
          fc.string({ unit: 'binary', maxLength: 200 }),
          fc.array(word, { maxLength: 60 }).map((words) => words.join(' ')),
        ),
        (text) => {
          const { definition, issues } = parseDefinition(text);
          expect(definition === null).toBe(issues.some((one) => one.severity === 'error'));
          for (const one of issues) expect(one.line > 0 && one.column > 0 && wording(one).says.length > 0).toBe(true);
        },
      ),
      { numRuns: 400 },
    );
  });
});

describe('variables that people set', () => {
  const release = (variables: string) =>
    `tsunagi: 1\nrelease:\n  parts: { api: { kind: server, start: x } }\n  variables:\n${variables}`;
  const read = (text: string) => parseDefinition(release(text));
  it('are declared with what people should know of them', () => {
    expect(
      read(
        '    KEY: { secret: true, about: of the gateway, untrusted: none }\n    LEVEL: { default: info }\n    URL: { from: variable.HOST, append: /x }\n    OTHER: { about: more }\n',
      ).definition?.release?.variables,
    ).toEqual({
      KEY: { kind: 'set', secret: true, default: null, about: 'of the gateway', untrusted: 'none' },
      LEVEL: { kind: 'set', secret: false, default: 'info', about: null, untrusted: null },
      URL: { kind: 'from', from: 'variable.HOST', append: '/x' },
      OTHER: { kind: 'set', secret: false, default: null, about: 'more', untrusted: null },
    });
  });
  it.each([
    ['a secret with a default, which everybody could read', '    KEY: { secret: true, default: x }\n', 'key_not_for'],
    ['a secret that comes from elsewhere', '    KEY: { secret: true, from: release.number }\n', 'key_not_for'],
    ['words about one that comes from elsewhere', '    KEY: { about: x, from: release.number }\n', 'key_not_for'],
    ['neither yes nor no', '    KEY: { secret: maybe }\n', 'wrong_choice'],
    ['a name that is none', '    KEY: { from: variable.9 }\n', 'wrong_text'],
    ['a name of the service', '    TSUNAGI_X: { secret: true }\n', 'taken_variable'],
  ])('are refused with %s', (_what, text, code) => {
    const { definition, issues } = read(text);
    expect([definition, issues.map((one) => one.code)]).toEqual([null, [code]]);
    expect(issues[0]?.line).toBe(5);
  });
  it('are known to tasks, by the name that people set', () => {
    const { definition } = parseDefinition(
      'tsunagi: 1\ntasks:\n  a: { run: x, variables: { K: { from: variable.KEY, append: "!" } } }\n',
    );
    expect(definition?.tasks.a?.variables).toEqual({ K: { from: 'variable.KEY', append: '!' } });
    expect(
      parseDefinition('tsunagi: 1\ntasks:\n  a: { run: x, variables: { K: { from: variables.KEY } } }\n').issues[0]
        ?.code,
    ).toBe('unknown_reference');
  });
});

describe('a site of the whole folder', () => {
  it('is served from a dot', () => {
    const root = (text: string) =>
      parseDefinition(`tsunagi: 1\nrelease:\n  parts: { page: { kind: site, root: ${text} } }\n`);
    expect(root('.').definition?.release?.parts.page?.root).toBe('');
    expect(root('./').issues.map((one) => one.code)).toContain('wrong_text');
    expect(root('..').issues.map((one) => one.code)).toContain('wrong_text');
  });
});

describe('the JSON Schema', () => {
  const validate = new Ajv2020({ strict: false }).compile(definitionSchema());

  it('accepts what the reader accepts', () => {
    expect(validate(parse(sailings))).toBe(true);
  });
  it('refuses unknown and later keys', () => {
    expect(validate({ tsunagi: 1, tasks: { a: { run: 'x', cache: ['y'] } } })).toBe(true);
    expect(validate({ tsunagi: 1, environments: { staging: { branch: 'main', mirror: 1 } } })).toBe(false);
    expect(validate({ tsunagi: 1, tasks: { a: { run: 'x', where: 'y' } } })).toBe(false);
    expect(validate({ tsunagi: 1, taskz: {} })).toBe(false);
    expect(validate({ tasks: {} })).toBe(false);
  });
});

describe('checking against the files', () => {
  const definition = parseDefinition(task('    reads: [src/, "docs/**/*.md"]\n')).definition as never;

  it('warns of patterns that match nothing, of unread lock files and of filters', () => {
    const issues = checkAgainst(definition, ['src/a.js', 'package-lock.json'], '*.bin filter=big\n');
    expect(issues.map((one) => one.code)).toEqual(['pattern_matches_nothing', 'unread_root_file', 'filter_attribute']);
  });
  it('is quiet when all is read', () => {
    expect(checkAgainst(definition, ['src/a.js', 'docs/x/y.md'], null)).toEqual([]);
  });
});

describe('a site’s own answers', () => {
  const text = (site: string, variables = 'PUBLIC_API: x, KEY: { secret: true }') =>
    `tsunagi: 1\nrelease:\n  parts:\n    page: { kind: site, root: web${site} }\n  variables: { ${variables} }\n`;

  it('are read: settings, headers, redirects, the page of a 404', () => {
    const { definition, issues } = parseDefinition(
      text(
        ', missing: 404.html, settings: { at: /settings.json, names: [PUBLIC_API] }, headers: { /assets/: { Cache-Control: no-store } }, redirects: { /old: /new, /x/: { to: https://kohama.example/, permanent: true } }',
      ),
    );
    expect(issues).toEqual([]);
    expect(definition?.release?.parts.page).toMatchObject({
      missing: '404.html',
      settings: { at: '/settings.json', names: ['PUBLIC_API'] },
      headers: [{ at: '/assets/', set: { 'Cache-Control': 'no-store' } }],
      redirects: [
        { from: '/old', to: '/new', permanent: false },
        { from: '/x/', to: 'https://kohama.example/', permanent: true },
      ],
      strip: false,
      sticky: false,
    });
  });

  it.each([
    [', settings: { at: /s.json, names: [KEY] }', '4:69 settings_secret'],
    [', settings: { at: /s.json, names: [PUBLIC_APY] }', '4:69 unknown_variable'],
    [', settings: { at: s.json, names: [PUBLIC_API] }', '4:52 wrong_text'],
    [', settings: { names: [PUBLIC_API] }', '4:46 required_key'],
    [', headers: { /: { Content-Length: 1 } }', '4:52 taken_name'],
    [', headers: { /: { X-A: "a\\r\\nSet-Cookie: x=y" } }', '4:57 wrong_text'],
    [', headers: { x: { X-A: b } }', '4:47 wrong_text'],
    [', redirects: { /a: //evil.example }', '4:53 wrong_text'],
    [', redirects: { /a: "javascript:x" }', '4:53 wrong_text'],
    [', strip: true', '4:36 key_not_for'],
    [', sticky: true', '4:36 key_not_for'],
  ])('%s is refused: %s', (site, found) => {
    expect(codes(text(site))).toEqual([found]);
  });

  it('belong to sites, and what is of servers to them', () => {
    const part = (kind: string, key: string) =>
      codes(`tsunagi: 1\nrelease:\n  parts:\n    p: { kind: ${kind}, start: x, ${key} }\n`);
    expect(part('server', 'missing: x')).toEqual(['4:34 key_not_for']);
    expect(part('worker', 'sticky: true')).toEqual(['4:34 key_not_for']);
    expect(part('server', 'strip: true, sticky: true')).toEqual([]);
  });
});

describe('a stored definition', () => {
  it('of the model before is completed when it is read', () => {
    const task = { name: 't', reads: null, needs: [], run: ['x'], makes: [], network: false, timeout: 1, cache: [] };
    const rest = { shards: null, each: {}, retry: 0, resources: {}, reuse: true };
    const stored = {
      version: 1 as const,
      versions: { node: '>=20' },
      tasks: {
        t: { ...task, ...rest, junit: 'o.xml', branches: null, pullRequests: true, variables: { A: 'a' } },
        b: {
          ...{ ...task, ...rest, junit: null, branches: ['main'], pullRequests: true },
          variables: { C: { from: 'run.commit', then: '!' } },
        },
        n: { ...task, ...rest, junit: null, branches: null, pullRequests: false, variables: {} },
      },
      release: {
        needs: ['t'],
        parts: {
          p: {
            name: 'p',
            kind: 'server' as const,
            needs: [],
            files: null,
            root: '',
            start: 'x',
            at: '/',
            fallback: null,
            ready: null,
            instances: 2,
          },
        },
        variables: {
          L: { kind: 'literal' as const, value: '1' },
          K: { kind: 'set' as const, default: null, secret: true, about: null, strangers: 'none' },
          U: { kind: 'from' as const, from: 'environment.url', then: '/x' },
        },
        prepare: null,
      },
      environments: {
        review: { name: 'review', opens: 'pull request', branch: null, after: null, promotion: 'asked', verify: null },
        live: { name: 'live', opens: null, branch: null, after: 'x', promotion: 'automatic', verify: null },
      },
    };
    const now = storedDefinition(stored);
    expect([now.version, now.tools]).toEqual([6, { node: '>=20' }]);
    expect(now.release?.parts.p).toMatchObject({
      instances: 2,
      strip: false,
      sticky: false,
      headers: [],
      settings: null,
    });
    expect(now.tasks.t).toEqual({
      ...task,
      ...rest,
      results: 'o.xml',
      coverage: null,
      for: null,
      variables: { A: 'a' },
    });
    expect([now.tasks.b?.for, now.tasks.n?.for]).toEqual([['main', 'pull requests'], ['**']]);
    expect(now.tasks.b?.variables).toEqual({ C: { from: 'run.commit', append: '!' } });
    expect(now.release?.variables).toEqual({
      L: { kind: 'literal', value: '1' },
      K: { kind: 'set', default: null, secret: true, about: null, untrusted: 'none' },
      U: { kind: 'from', from: 'environment.url', append: '/x' },
    });
    expect(now.environments).toMatchObject({
      review: { for: 'pull requests', promotion: 'manual' },
      live: { for: null, promotion: 'automatic' },
    });
    expect(storedDefinition(now)).toBe(now);
    expect(now.release).toMatchObject({ resources: {}, migrations: null });
    expect(() => storedDefinition({ ...now, version: 7 } as never)).toThrow('version 7');
  });
});
