import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { diagnoseInstance, type InstanceFacts } from '../../src/core/diagnose/instance';
import { diagnoseProgram, type ProgramFacts } from '../../src/core/diagnose/program';
import { wording } from '../../src/core/errors/errors';

const facts: ProgramFacts = {
  what: 'api',
  command: 'node server.js',
  exit: 1,
  lastLines: [],
  variables: ['PORT', 'LEVEL'],
  tools: { node: '20.20.2', python: '3.11.2', java: '17.0.13' },
  files: ['server.js', 'src/prices.js', 'app.py', 'kohama/Board.class'],
  network: true,
};
const cause = (lines: string[], change: Partial<ProgramFacts> = {}) =>
  diagnoseProgram({ ...facts, ...change, lastLines: lines });

describe('the last lines of a program that failed', () => {
  it.each([
    [
      'npm, of a script that is not there',
      ['npm error Missing script: "start"', 'npm error', 'npm error To see a list of scripts, run:'],
      'start_script_missing',
      { script: 'start' },
    ],
    [
      'npm, of an engine',
      [
        'npm error code EBADENGINE',
        'npm error notsup Required: {"node":">=22"}',
        'npm error notsup Actual:   {"npm":"10"}',
      ],
      'tool_version',
      { tool: 'node', wants: '>=22', has: '20.20.2' },
    ],
    [
      'npm, of an engine in its older form',
      ["npm WARN EBADENGINE   required: { node: '>=21' },"],
      'tool_version',
      { wants: '>=21' },
    ],
    [
      'pip, of Python',
      ["ERROR: Package 'prices' requires a different Python: 3.11.2 not in '>=3.12'"],
      'tool_version',
      { tool: 'python', wants: '>=3.12', has: '3.11.2' },
    ],
    [
      'Java, of a newer class',
      [
        'java.lang.UnsupportedClassVersionError: Board has been compiled by a more recent version (class file version 65.0)',
      ],
      'tool_version',
      { tool: 'java', wants: '>=21', has: '17.0.13' },
    ],
    [
      'Node, of a variable',
      ['Error: REGION_URL is not set', '    at main (server.js:3:9)'],
      'variable_missing',
      { name: 'REGION_URL' },
    ],
    [
      'Node, of a required one',
      ['Missing required environment variable: REGION_URL'],
      'variable_missing',
      { name: 'REGION_URL' },
    ],
    [
      'Python, of a variable',
      ['    raise KeyError(key) from None', "KeyError: 'REGION_URL'"],
      'variable_missing',
      { name: 'REGION_URL' },
    ],
    ['bash, of a variable', ['bash: line 1: REGION_URL: unbound variable'], 'variable_missing', { name: 'REGION_URL' }],
    ['sh, of a variable', ['sh: 1: REGION_URL: parameter not set'], 'variable_missing', { name: 'REGION_URL' }],
    [
      'Node, of a package',
      ["Error: Cannot find module 'fastbox'", 'Require stack:', '- /project/server.js'],
      'package_missing',
      { name: 'fastbox', file: 'package.json' },
    ],
    [
      'Node, of a package with a scope',
      ["Error [ERR_MODULE_NOT_FOUND]: Cannot find package '@kohama/prices' imported from /project/server.js"],
      'package_missing',
      { name: '@kohama/prices' },
    ],
    [
      'Node, of a file',
      ["Error: Cannot find module '/project/srver.js'"],
      'file_missing',
      { path: 'srver.js', near: ' Did you mean server.js?' },
    ],
    [
      'Node, of a file it opens',
      ["Error: ENOENT: no such file or directory, open 'data/prices.json'"],
      'file_missing',
      { path: 'data/prices.json', near: '' },
    ],
    [
      'Python, of a module',
      ["ModuleNotFoundError: No module named 'flask'"],
      'package_missing',
      { name: 'flask', file: 'requirements.txt' },
    ],
    [
      'Python, of a module that is nearly there',
      ["ModuleNotFoundError: No module named 'ap'"],
      'file_missing',
      { path: 'ap.py', near: ' Did you mean app.py?' },
    ],
    [
      'Python, of a file',
      ["python3: can't open file '/project/aap.py': [Errno 2] No such file or directory"],
      'file_missing',
      { path: 'aap.py', near: ' Did you mean app.py?' },
    ],
    [
      'Python, of a file it opens',
      ["FileNotFoundError: [Errno 2] No such file or directory: 'prices.csv'"],
      'file_missing',
      { path: 'prices.csv' },
    ],
    [
      'Java, of a class',
      [
        'Error: Could not find or load main class kohama.Bord',
        'Caused by: java.lang.ClassNotFoundException: kohama.Bord',
      ],
      'file_missing',
      { near: ' Did you mean Board.class?' },
    ],
    [
      'Java, of a file',
      ['Exception in thread "main" java.nio.file.NoSuchFileException: prices.csv'],
      'file_missing',
      { path: 'prices.csv' },
    ],
    [
      'bash, of a command',
      ['bash: line 1: nod: command not found'],
      'command_missing',
      { name: 'nod', near: ' Did you mean node?' },
    ],
    ['sh, of a command', ['sh: 1: gulpfish: not found'], 'command_missing', { name: 'gulpfish', near: '' }],
    ['cat, of a file', ['cat: prices.txt: No such file or directory'], 'file_missing', { path: 'prices.txt' }],
    [
      'Python, of input',
      ['Which region? Traceback (most recent call last):', 'EOFError: EOF when reading a line'],
      'waits_for_input',
      {},
    ],
    ['a question', ['3 migrations are pending.', 'Proceed? '], 'waits_for_input', { line: 'Proceed?' }],
    ['a question with a choice', ['Drop the table? (yes/no) '], 'waits_for_input', {}],
  ] as const)('of %s, name the cause', (_what, lines, code, data) => {
    const found = cause([...lines]);
    expect(found).toMatchObject({ code, data });
    const { says, next } = wording(found as never);
    expect(says).toMatch(/^api: /);
    expect([says, next].join(' ')).not.toMatch(/undefined|\{\w+\}/);
  });

  it.each([
    ['names', ['getaddrinfo EAI_AGAIN prices.kohama.example'], 'prices.kohama.example'],
    ['curl', ['curl: (6) Could not resolve host: prices.kohama.example'], 'prices.kohama.example'],
    ['pip', ['Temporary failure in name resolution'], 'an address outside'],
    ['an address', ['Error: connect ENETUNREACH 192.0.2.7:443'], '192.0.2.7'],
    ['Java', ['java.net.UnknownHostException: prices.kohama.example'], 'prices.kohama.example'],
  ])('of %s, speak of a network only where there is none', (_what, lines, host) => {
    expect(cause(lines, { network: false })).toMatchObject({ code: 'network_closed', data: { host } });
    expect(cause(lines)?.code ?? null).not.toBe('network_closed');
  });

  it.each([
    ['an assertion', ['AssertionError: 3 !== 4', 'ERROR: 1 test failed']],
    ['a variable that it has', ['Error: LEVEL is not set']],
    ['words in capitals', ['ERROR is required reading', 'WARN: missing JSON']],
    ['a file of the system', ["Error: ENOENT: no such file or directory, open '/etc/prices.conf'"]],
    ['nothing', []],
    ['an end of a sentence', ['Which shop goes next?']],
  ])('of %s, are left to speak for themselves', (_what, lines) => {
    expect(cause(lines)).toBeNull();
  });

  it('are read without their colours', () => {
    expect(cause(['\u001b[31mError: REGION_URL is not set\u001b[0m\r'])).toMatchObject({
      code: 'variable_missing',
      data: { name: 'REGION_URL' },
    });
  });

  it('prefer the cause to what follows from it', () => {
    expect(
      cause(["Cannot find module 'x'", 'npm error code EBADENGINE', 'npm error notsup Required: {"node":">=22"}'])
        ?.code,
    ).toBe('tool_version');
    expect(cause(['REGION_URL is not set', "ENOENT: no such file or directory, open 'undefined/prices'"])?.code).toBe(
      'variable_missing',
    );
  });

  it('never make it throw, and what it says has no holes', () => {
    const word = fc.constantFrom(
      'Cannot find module',
      "'",
      '"',
      ': not found',
      'KeyError: ',
      'ENOENT',
      'is not set',
      'REGION',
      'required',
      'No such file or directory',
      '[y/N]',
      '{',
      '}',
      '/project/',
      'class file version 99',
      '\u001b[1m',
    );
    fc.assert(
      fc.property(
        fc.array(fc.array(fc.oneof(word, fc.string({ maxLength: 8 })), { maxLength: 6 }), { maxLength: 6 }),
        fc.boolean(),
        (lines, network) => {
          const found = cause(
            lines.map((parts) => parts.join(' ')),
            { network },
          );
          if (found) expect(wording(found).says.length).toBeGreaterThan(5);
        },
      ),
    );
  });
});

describe('an instance', () => {
  const instance: InstanceFacts = {
    part: 'api',
    kind: 'server',
    exit: null,
    served: false,
    port: 4000,
    listening: [],
    ready: '/ready',
    answer: null,
    waitedMs: 60_000,
    lastLines: [],
    oneAddress: null,
    outOfMemory: null,
    program: facts,
  };
  const code = (change: Partial<InstanceFacts>) => diagnoseInstance({ ...instance, ...change }).code;
  it('names the signal that ended it', () => {
    const says = (exit: number) =>
      wording(diagnoseInstance({ ...instance, served: true, exit, lastLines: ['odd'] })).says;
    expect(says(137)).toBe('api ended with exit status 137 (SIGKILL) while it served; its last words: odd');
    expect(says(3)).toContain('exit status 3 while it served');
  });

  it.each([
    [
      'memory goes before all',
      { outOfMemory: '1 GiB', exit: 137, lastLines: ['REGION_URL is not set'] },
      'instance_memory',
    ],
    ['its own words, where they tell', { exit: 1, lastLines: ['REGION_URL is not set'] }, 'variable_missing'],
    ['its end, where they do not', { exit: 1, lastLines: ['odd'] }, 'ended_at_once'],
    ['its end while it served', { served: true, exit: 137, lastLines: ['odd'] }, 'ended_itself'],
    ['a worker’s end', { kind: 'worker' as const, exit: 1, lastLines: ['odd'] }, 'worker_ended'],
    ['other ports', { listening: [8000] }, 'listens_elsewhere'],
    [
      'other ports, also when it has printed a warning',
      { listening: [8000], lastLines: ['REGION_URL is not set'] },
      'listens_elsewhere',
    ],
    ['one address', { listening: [4000], oneAddress: '::1' }, 'listens_one_address'],
    [
      'one address that answers all the same',
      { listening: [4000], oneAddress: '127.0.0.1', answer: '503' },
      'not_ready',
    ],
    ['its answer', { listening: [4000], answer: '503' }, 'not_ready'],
    ['a question that nobody answers', { lastLines: ['Proceed? [y/N] '] }, 'waits_for_input'],
    ['silence', { lastLines: ['REGION_URL is not set, I go on'] }, 'not_listening'],
  ] as [string, Partial<InstanceFacts>, string][])('is told by %s', (_what, change, expected) => {
    expect(code(change)).toBe(expected);
  });
});
