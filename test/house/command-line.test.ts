/** The command line as its users meet it: help, tables, JSON, what is refused, and how it exits. */
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { registry } from '../../src/core/errors/errors.js';
import { listCommands } from '../../src/core/errors/lists.js';
import { app, appDefinition, type Checkout, cli, openWorld, root, until, type World } from './world.js';

let world: World;
let checkout: Checkout;
let first: string;
let home: string;
beforeAll(async () => {
  home = mkdtempSync(join(tmpdir(), 'tsunagi-home-'));
  world = await openWorld();
  ({ checkout, first } = await world.hosted('shop', { ...app('one'), 'tsunagi.yaml': appDefinition }));
  await checkout.push();
  await world.waitLive('shop', 'staging', first);
});
afterAll(async () => {
  await world?.close();
  rmSync(home, { recursive: true, force: true });
});

/** Every command there is, found by asking for help. */
async function commands(path: string[] = []): Promise<{ path: string[]; help: string }[]> {
  const { out } = await cli([...path, '--help']);
  const below = /\nCommands:\n([\s\S]*?)(\n\n|$)/.exec(out)?.[1] ?? '';
  const names = [...below.matchAll(/^ {2}([a-z-]+)/gm)]
    .map((one) => one[1] as string)
    .filter((name) => name !== 'help');
  if (names.length === 0) return [{ path, help: out }];
  const all: { path: string[]; help: string }[] = [];
  for (const name of names) all.push(...(await commands([...path, name])));
  return all;
}

/** The words of a line as a shell sees them. */
const wordsOf = (line: string): string[] =>
  [...line.matchAll(/"([^"]*)"|'([^']*)'|(\S+)/g)].map((found) => found[1] ?? found[2] ?? (found[3] as string));

/** Stands for what a word leaves open: `{environment}`, `NAME`, `rN`. */
function fill(word: string): string {
  const open: Record<string, string> = {
    RELEASE: 'r9',
    '{release}': 'r9',
    DURATION: '1h',
    COMMIT: '0123456',
    URL: 'http://127.0.0.1:1',
  };
  if (open[word]) return open[word];
  return word
    .replace(/\{(number|run|joint|deployment)\}|\bN\b/g, '9')
    .replace(/([rdj])N\b/g, '$19')
    .replace(/\{commit\}/g, '0123456')
    .replace(/\{environment\}|\bENV(IRONMENT)?\b/g, 'staging')
    .replace(/\{\w+\}|\b[A-Z][A-Z_-]+\b/g, 'nosuch');
}

describe('commands that messages name', () => {
  it('are there, with the options that are named with them', async () => {
    const all = (await commands()).map(({ path, help }) => ({ name: path.join(' '), help }));
    const groups = new Set(
      all.flatMap(({ name }) => name.split(' ').map((_, at, words) => words.slice(0, at).join(' '))),
    );
    const texts = [
      ...Object.values(registry).flatMap(({ says, next }) => [says, next]),
      ...listCommands.map((one) => `\`tsunagi ${one}\``),
    ];
    const named = texts.flatMap((text) =>
      [...text.matchAll(/`tsunagi ([^`{]*)[^`]*`/g)].map((found) => found[0].slice(1, -1)),
    );
    expect(named.length).toBeGreaterThan(60);
    const wrong = named.filter((line) => {
      const words = line.split(/\s+/).slice(1);
      // A command that the message itself fills in.
      if (words[0]?.startsWith('{')) return false;
      const plain = words.slice(0, words.findIndex((word) => !/^[a-z-]+$/.test(word) || word.startsWith('--')) >>> 0);
      const command = all.find(({ name }) => plain.join(' ') === name || plain.join(' ').startsWith(`${name} `));
      if (!command) return !groups.has(plain.join(' '));
      return words.some((word) => /^--[a-z]/.test(word) && !command.help.includes(word));
    });
    expect(wrong).toEqual([]);
  });

  it('can be given as they are written, each thing that they leave open filled in', async () => {
    const files = ['src', 'console/src', 'docs', 'README.md'].flatMap((place) =>
      statSync(join(root, place)).isFile()
        ? [place]
        : readdirSync(join(root, place), { recursive: true, encoding: 'utf8' })
            .filter((name) => /\.(tsx?|md)$/.test(name))
            .map((name) => join(place, name)),
    );
    const named = files.flatMap((file) =>
      [...readFileSync(join(root, file), 'utf8').matchAll(/(?<!`)`tsunagi ([a-z][^`\n]*)`/g)].map(
        (found) => found[1] as string,
      ),
    );
    // What names a command without what it needs means the command as such; a computed one is met where it is computed.
    const whole = [...new Set(named)].filter(
      (line) =>
        /[ ].*([A-Z{-]|[a-z]\/)/.test(line) &&
        !/[…|$[<]|\.\.\.|\\/.test(line) &&
        !/^(serve|rehearse|check)\b/.test(line),
    );
    expect(whole.length).toBeGreaterThan(60);
    const filled = whole.map((line) => wordsOf(line).map((word) => fill(word)));
    const wrong: string[] = [];
    const next = async (): Promise<void> => {
      for (let words = filled.pop(); words !== undefined; words = filled.pop()) {
        // Nothing listens there: what asks the service, for a project or for a file has understood the words.
        const { status, err } = await cli(words, { TSUNAGI_URL: 'http://127.0.0.1:1', TSUNAGI_TOKEN: 'tsu_none' });
        if (status !== 3 && !/^(Which project\?|The file nosuch is not known)/.test(err))
          wrong.push(`${words.join(' ')}: ${status} ${err.trim()}`);
      }
    };
    await Promise.all([next(), next(), next()]);
    expect(wrong).toEqual([]);
  });
});

describe('completion', () => {
  /** What bash offers for a line whose last word is begun. */
  const offered = async (...words: string[]): Promise<string[]> => {
    const { out } = await cli(['completion', 'bash']);
    const script = `${out}\nCOMP_WORDS=(${words.map((word) => `'${word}'`).join(' ')}); COMP_CWORD=${words.length - 1}; _tsunagi; printf '%s\\n' "\${COMPREPLY[@]}"`;
    return execFileSync('bash', ['-c', script], { encoding: 'utf8' }).trim().split('\n');
  };

  it('leads through commands, verbs and options', async () => {
    expect(await offered('tsunagi', 'pro')).toEqual(['project', 'promote']);
    expect(await offered('tsunagi', 'project', 're')).toEqual(['rename', 'resume', 'report-to', 'remove']);
    expect(await offered('tsunagi', 'run', 'start', 'main', '--w')).toEqual(['--without-reuse']);
    expect(await offered('tsunagi', 'run', 'al')).toEqual(['allow']);
  });

  it('is made for each shell, and for no other', async () => {
    const [zsh, fish, other] = [
      await cli(['completion', 'zsh']),
      await cli(['completion', 'fish']),
      await cli(['completion', 'csh']),
    ];
    expect(zsh.out).toMatch(/^#compdef tsunagi[\s\S]*'allow:let a commit/);
    expect(fish.out).toContain(`complete -c tsunagi -n 'test (__tsunagi_path) = "run"' -a 'allow'`);
    expect(other.status).toBe(2);
  });
});

describe('help', () => {
  it('is there for every command, says what it does, and ends with an example of it', async () => {
    const all = await commands();
    expect(all.length).toBeGreaterThan(45);
    for (const { path, help } of all) {
      const example = /\nExample:\n {2}(.+)/.exec(help)?.[1] ?? '';
      expect([path.join(' '), example.startsWith(`tsunagi ${path.join(' ')}`)]).toEqual([path.join(' '), true]);
      expect([path.join(' '), /\n\n[^\n]{10,}/.test(help)]).toEqual([path.join(' '), true]);
      for (const line of help.split('\n')) expect(line.length).toBeLessThanOrEqual(120);
    }
    const json = all.filter(
      ({ path }) => !['serve', 'logs', 'completion', 'project draft save'].includes(path.join(' ')),
    );
    for (const { path, help } of json)
      expect([path.join(' '), help.includes('--json')]).toEqual([path.join(' '), true]);
  });
});

describe('what it prints', () => {
  it.each([
    ['board', [], /shop\n.*WHERE/s],
    ['project', ['list'], /PROJECT +SOURCE.*\nshop +hosted/],
    ['run', ['list', '--project', 'shop'], /1 +shop +passed +main .*First commit/],
    ['run', ['show', '1', '--project', 'shop'], /unit +passed/],
    ['run', ['log', '1', 'unit', '--project', 'shop'], /checked/],
    ['release', ['list', '--project', 'shop'], /r1 /],
    ['release', ['show', 'r1', '--project', 'shop'], /EVIDENCE.*verification +staging/s],
    ['environment', ['show', 'shop/staging'], /shop\/staging.*INSTANCE.*api 1/s],
    ['environment', ['list', '--project', 'shop'], /production.*staging/s],
    ['agent', ['list'], /agent-1/],
    ['token', ['list'], /push shop/],
    ['person', ['list'], /owner +owner/],
    ['events', ['--project', 'shop', '--limit', '3'], /shop/],
    ['logs', ['shop/staging', '--part', 'bell'], /worker of r1/],
    ['plan', ['--project', 'shop'], /unit +reuse/],
    ['why', ['task', 'unit', '--project', 'shop'], /unit in run 1/],
    ['why', ['run', '1', '--project', 'shop'], /passed/],
    ['variable', ['list', '--project', 'shop'], /Nothing is set/],
  ] as [string, string[], RegExp][])(
    '%s %j is a text, without colours where there is no terminal',
    async (noun, args, pattern) => {
      // What a program has just written may be on its way.
      const out = await until(`${noun} ${args} prints ${pattern}`, async () => {
        const answer = await world.cli(noun, ...args);
        expect([answer.err, answer.status]).toEqual(['', 0]);
        expect(answer.out).toMatch(pattern);
        return answer.out;
      });
      expect(out).not.toContain('\u001b');
    },
  );

  it.each([
    ['board', [], 'projects'],
    ['project', ['list'], 'items'],
    ['run', ['list', '--project', 'shop'], 'items'],
    ['run', ['show', '1', '--project', 'shop'], 'taskList'],
    ['release', ['list', '--project', 'shop'], 'items'],
    ['release', ['show', 'r1', '--project', 'shop'], 'evidence'],
    ['environment', ['show', 'shop/staging'], 'history'],
    ['agent', ['list'], 'items'],
    ['token', ['list'], 'items'],
    ['person', ['list'], 'items'],
    ['events', ['--limit', '3'], 'items'],
    ['events', ['--check'], 'seals'],
    ['plan', ['--project', 'shop'], 'tasks'],
    ['why', ['task', 'unit', '--project', 'shop'], 'inputs'],
    ['why', ['run', '1', '--project', 'shop'], 'failed'],
    ['variable', ['list', '--project', 'shop'], 'wanted'],
  ] as [string, string[], string][])('%s %j is JSON when asked to, and nothing else', async (noun, args, key) => {
    const { out, err, status } = await world.cli(noun, ...args, '--json');
    expect([err, status]).toEqual(['', 0]);
    expect(Object.keys(JSON.parse(out) as object)).toContain(key);
    // No secret of anything: tokens are shown once, when they are made.
    expect(out).not.toMatch(/ts[uae]_[A-Za-z0-9_-]{20}/);
  });
});

describe('how it exits', () => {
  it.each([
    ['0: done', ['board'], 0],
    ['1: the answer is no', ['promote', 'r99', '--to', 'shop/production'], 1],
    ['1: nothing to revert', ['revert', 'shop/staging'], 1],
    ['1: not known', ['run', 'show', '99', '--project', 'shop'], 1],
    ['2: used wrongly', ['deploy', 'r1'], 2],
    ['2: no such command', ['deplyo'], 2],
    ['2: no such option', ['board', '--colour'], 2],
    ['2: no project', ['run', 'list', '--branch'], 2],
  ] as [string, string[], number][])('%s', async (_what, args, status) => {
    const told = await world.cli(...args);
    expect([told.status, told.err !== '' || status === 0]).toEqual([status, true]);
    if (status > 0) expect(told.out).toBe('');
  });

  it('3 where the service does not answer, in words', async () => {
    const told = await cli(['board'], { TSUNAGI_URL: 'http://127.0.0.1:9', TSUNAGI_TOKEN: 'tsu_x' });
    expect(told.status).toBe(3);
    expect(told.err).toContain('http://127.0.0.1:9 does not answer');
    expect(told.err).toContain('tsunagi serve');
  });

  it('as a run that was followed came out', async () => {
    await checkout.commitAndPush({ 'tsunagi.yaml': 'tsunagi: 1\ntasks: { no: { run: exit 3 } }\n' }, 'Fails');
    const number = await until(
      'its run',
      async () =>
        (
          await world.api().get<{ items: { number: number; commit: { title: string } }[] }>('/api/runs?project=shop')
        ).items.find((one) => one.commit.title === 'Fails')?.number,
    );
    const told = await world.cli('follow', String(number), '--project', 'shop');
    expect(told.status).toBe(1);
    expect(told.out).toContain('ended with exit status 3');
  });
});

describe('who is signed in', () => {
  const at = (...args: string[]) => cli(args, { XDG_CONFIG_HOME: home });
  it('is kept in a file that nobody else reads', async () => {
    expect(await at('board')).toMatchObject({
      status: 2,
      err: expect.stringContaining('There is no service to talk to'),
    });
    expect((await at('sign-in', world.url, '--token', 'tsu_wrong')).err).toContain('The token is not known');
    const told = await at('sign-in', world.url, '--token', world.house.token);
    expect([told.err, told.status]).toEqual(['', 0]);
    const file = join(home, 'tsunagi/sign-in.json');
    expect(statSync(file).mode & 0o777).toBe(0o600);
    expect(JSON.parse(readFileSync(file, 'utf8'))).toEqual({ url: world.url, token: world.house.token });
    expect((await at('board')).status).toBe(0);
  });

  it('has a project where one stands in its checkout', async () => {
    const told = await cli(['run', 'list'], { XDG_CONFIG_HOME: home }, checkout.folder);
    expect([told.err, told.status]).toEqual(['', 0]);
    expect(told.out).toContain('First commit');
    expect((await cli(['run', 'list'], { XDG_CONFIG_HOME: home }, home)).status).toBe(0);
    expect(await cli(['plan'], { XDG_CONFIG_HOME: home }, home)).toMatchObject({
      status: 2,
      err: expect.stringContaining('Which project?'),
    });
  });

  it('loses a token that is removed or has run out', async () => {
    const made = await world
      .api()
      .post<{ id: string; token: string }>('/api/tokens', { name: 'short', role: 'viewer', days: 1 });
    const use = () => cli(['board'], { TSUNAGI_URL: world.url, TSUNAGI_TOKEN: made.token });
    expect((await use()).status).toBe(0);
    expect((await world.cli('token', 'add', 'soon', '--role', 'viewer', '--expires', 'soon')).err).toContain(
      'is not a length of time',
    );
    const soon = (
      await world.cli('token', 'add', 'soon', '--role', 'viewer', '--project', 'shop', '--expires', '2s')
    ).out.trim();
    const later = () => cli(['run', 'list'], { TSUNAGI_URL: world.url, TSUNAGI_TOKEN: soon });
    expect((await later()).status).toBe(0);
    await until('it has run out', async () => (await later()).err.includes('has expired'));
    expect((await world.cli('token', 'remove', made.id)).status).toBe(0);
    expect(await use()).toMatchObject({ status: 1, err: expect.stringContaining('was removed') });
  });
});

describe('check', () => {
  const file = (text: string) => {
    const path = join(home, 'tsunagi.yaml');
    writeFileSync(path, text);
    return path;
  };
  it('needs no service, and points at each mistake', async () => {
    const told = await cli(['check', file('tsunagi: 1\ntasks:\n  unit: { rum: x }\nrelase: {}\n')], { HOME: home });
    expect(told.status).toBe(1);
    expect(told.out + told.err).toMatch(/:3:11.*`rum` is not known here\. .*Did you mean `run`\?/s);
    expect(told.out + told.err).toMatch(/:4:1.*Did you mean `release`\?/s);
    expect((await cli(['check', file('tsunagi: 1\n')], { HOME: home })).status).toBe(0);
    expect((await cli(['check', join(home, 'nowhere.yaml')], { HOME: home })).status).not.toBe(0);
  });
});
