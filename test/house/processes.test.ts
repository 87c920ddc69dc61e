/** The processes of an installation: their accounts, what they hold against slow callers, and a machine that loses power. */
import { type ChildProcess, spawn, spawnSync } from 'node:child_process';
import {
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  readlinkSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { createServer, type Server } from 'node:http';
import { type AddressInfo, connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { chainCall, installScripts, prepareFolder, writeChain } from '../../src/agent/sandbox/chain.js';
import { findAccounts } from '../../src/agent/sandbox/host.js';
import { groupOf } from '../../src/agent/sandbox/limits.js';
import type { ChainFrame } from '../../src/agent/sandbox/work.js';
import { findProcessAccount, giveFolder, type processAccounts, runAs } from '../../src/cli/serve/accounts.js';
import { watchBody } from '../../src/service/pace.js';
import { openWorld, root, until, type World } from './world.js';

const server = `import { createServer } from 'node:http';
createServer((request, response) => response.end(String(process.pid))).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
const definition = `tsunagi: 1
release:
  parts: { api: { kind: server, files: [server.js, package.json], start: node server.js, ready: / } }
environments:
  staging: { branch: main }
`;
const host = 'pier-staging.localhost';

let world: World;
let data: string;
beforeAll(async () => {
  world = await openWorld();
  data = join(world.folder, 'house');
  const { checkout, first } = await world.hosted('pier', {
    'package.json': '{ "type": "module" }\n',
    'server.js': server,
    'tsunagi.yaml': definition,
  });
  await checkout.push();
  await world.waitLive('pier', 'staging', first);
});
afterAll(() => world?.close());

const statusOf = (pid: number) => readFileSync(`/proc/${pid}/status`, 'utf8');

const entry = join(root, 'dist/rooms/enter.js');
// In a checkout that other accounts cannot enter they run as root, and say so.
const ofTheirOwn = 'account' in (findProcessAccount('service', entry) ?? {}) ? describe : describe.skip;

ofTheirOwn('the service and the edge, started by root', () => {
  const accountOf = (name: keyof typeof processAccounts) => {
    const found = findProcessAccount(name, entry);
    if (!found || !('account' in found)) throw new Error(JSON.stringify(found));
    return found.account;
  };
  const may = (name: keyof typeof processAccounts, ...test: string[]): boolean => {
    const [command = '', ...args] = runAs(accountOf(name));
    return spawnSync(command, [...args, 'test', ...test]).status === 0;
  };

  it('run as accounts of their own, and keep of its rights the listening on low ports alone', () => {
    for (const name of ['service', 'edge'] as const) {
      const { uid, gid } = accountOf(name);
      const status = statusOf(world.house.rooms[name].pid() as number);
      expect(status).toMatch(new RegExp(`^Uid:\\t${uid}\\t${uid}\\t${uid}\\t${uid}$`, 'm'));
      expect(status).toMatch(new RegExp(`^Gid:\\t${gid}\\t${gid}\\t${gid}\\t${gid}$`, 'm'));
      expect(status).toMatch(/^Groups:\t\s*$/m);
      expect(status).toMatch(/^CapBnd:\t0000000000000400$/m);
      expect(status).toMatch(/^NoNewPrivs:\t1$/m);
    }
    expect(accountOf('service').uid).not.toBe(accountOf('edge').uid);
  });

  it('are the program itself: signals of what started them reach it', () => {
    for (const name of ['service', 'edge'] as const)
      expect(readFileSync(`/proc/${world.house.rooms[name].pid()}/cmdline`, 'utf8').split('\0')[0]).toBe(
        process.execPath,
      );
  });

  it('read what is theirs and nothing else', () => {
    expect([may('service', '-r', join(data, 'service/keys')), may('edge', '-r', join(data, 'edge'))]).toEqual([
      true,
      true,
    ]);
    for (const [name, path] of [
      ['edge', 'service/keys'],
      ['edge', 'records/password'],
      ['service', 'edge'],
      ['service', 'tokens.json'],
      ['service', 'agent/live/.'],
      ['edge', 'agent/store'],
      ['edge', 'logs'],
    ] as const)
      expect([name, path, may(name, '-r', join(data, path))]).toEqual([name, path, false]);
  });

  it('refuse the folder of another account: what they write there, its owner could not read', () => {
    const { status, stderr } = spawnSync(process.execPath, [entry, 'service'], {
      encoding: 'utf8',
      env: { TSUNAGI_DATABASE: 'postgres://127.0.0.1:1/none', TSUNAGI_DATA: join(data, 'service'), TSUNAGI_PORT: '1' },
    });
    expect([status, stderr]).toEqual([3, expect.stringContaining(`as 0. Start it under that account.`)]);
  });

  it('get their folder again where another account owns what is in it, and links are not followed', () => {
    const folder = mkdtempSync(join(tmpdir(), 'tsunagi-own-'));
    try {
      mkdirSync(join(folder, 'data/keys'), { recursive: true });
      writeFileSync(join(folder, 'data/keys/one'), '');
      writeFileSync(join(folder, 'outside'), '');
      spawnSync('ln', ['-s', join(folder, 'outside'), join(folder, 'data/link')]);
      giveFolder(join(folder, 'data'), accountOf('edge'));
      const owner = (path: string) => statSync(join(folder, path)).uid;
      expect([owner('data'), owner('data/keys/one'), owner('outside')]).toEqual([
        accountOf('edge').uid,
        accountOf('edge').uid,
        0,
      ]);
    } finally {
      rmSync(folder, { recursive: true, force: true });
    }
  });

  it('run as root where their account cannot read the program, and that is said', () => {
    const folder = mkdtempSync(join(tmpdir(), 'tsunagi-closed-'));
    writeFileSync(join(folder, 'enter.js'), '');
    expect(findProcessAccount('edge', join(folder, 'enter.js'))).toEqual({
      asRoot: expect.stringContaining(`cannot read ${folder}/enter.js`),
    });
    rmSync(folder, { recursive: true, force: true });
  });
});

describe('a body of a request', () => {
  let slow: Server;
  const ended: string[] = [];
  beforeAll(async () => {
    slow = createServer((request, response) => {
      watchBody(request, { window: 200, leastBytes: 1_000 });
      if (request.url === '/unread') {
        request.pause();
        setTimeout(() => request.resume(), 700);
      }
      request.on('data', () => {});
      request.on('error', (error) => ended.push(`${request.url} ${error.message}`));
      request.on('end', () => response.end('whole'));
    });
    await new Promise<void>((resolve) => slow.listen(0, '127.0.0.1', () => resolve()));
  });
  afterAll(() => void slow?.close());

  /** Sends `chunks` of a body of 40,000 bytes, one each 50 ms, and returns what came back until the end. */
  const send = (path: string, chunks: number): Promise<string> =>
    new Promise((resolve) => {
      let back = '';
      const socket = connect((slow.address() as AddressInfo).port, '127.0.0.1');
      socket.write(`POST ${path} HTTP/1.1\r\nHost: x\r\nContent-Length: 40000\r\nConnection: close\r\n\r\n`);
      let sent = 0;
      const timer = setInterval(() => (sent++ < chunks ? socket.write('x'.repeat(1_000)) : clearInterval(timer)), 50);
      socket.on('data', (part) => (back += part));
      socket.on('error', () => {});
      socket.on('close', () => {
        clearInterval(timer);
        resolve(back);
      });
    });

  it('that does not come ends its request; one that goes on takes as long as it needs', async () => {
    const [stops, goes, unread] = await Promise.all([send('/stops', 3), send('/goes', 40), send('/unread', 40)]);
    expect(stops).toBe('');
    expect(ended).toEqual(['/stops its body does not come']);
    expect([goes, unread].map((one) => one.startsWith('HTTP/1.1 200'))).toEqual([true, true]);
  });
});

describe('what a sandbox shows of a volume', () => {
  const place = () => mkdtempSync(join(tmpdir(), 'tsunagi-shown-'));
  const runIn = (folder: string, before: (shown: string) => void) => {
    const account = findAccounts().live;
    const shown = join(folder, 'volume');
    mkdirSync(shown);
    spawnSync('chmod', ['711', folder]);
    const bin = join(folder, 'bin');
    installScripts(bin);
    const own = join(folder, 'work');
    prepareFolder(own, account);
    const frame: ChainFrame = {
      folder: own,
      account,
      network: 'none',
      writable: true,
      watchLease: false,
      group: groupOf('none', 'shown'),
      tied: false,
      runs: 'held',
      rlimits: { file: 1024 ** 3, processes: null, memory: null },
    };
    writeChain(
      frame,
      {
        layers: [],
        writable: true,
        variables: {},
        network: { open: false, listen: null, reach: [], through: [], only: [], bounded: [] },
        tmp: null,
        binds: [{ from: shown, to: '/project/files' }],
        command: ['sh', '-c', 'ls /project/files'],
      },
      bin,
    );
    before(shown);
    const call = chainCall(frame, bin);
    return spawnSync(call.file, call.args, { env: call.env, encoding: 'utf8', input: '1048576\n' });
  };

  it('is the volume that the agent has mounted, else the program does not start', () => {
    const [whole, other] = [place(), place()];
    try {
      const seen = runIn(whole, (shown) => writeFileSync(join(shown, 'sailings'), ''));
      expect([seen.status, seen.stdout]).toEqual([0, 'sailings\n']);
      // As if the mount were not seen there: the folder is another one than the agent had.
      const refused = runIn(other, (shown) => {
        rmSync(shown, { recursive: true });
        mkdirSync(`${shown}-other`);
        mkdirSync(shown);
      });
      expect(refused.stdout + refused.stderr).toContain('is not mounted here');
      expect(refused.status).not.toBe(0);
    } finally {
      for (const folder of [whole, other]) rmSync(folder, { recursive: true, force: true });
    }
  });
});

it('work with many layers leaves no warning of a growing list in the log of its agent', async () => {
  const names = Array.from({ length: 12 }, (_, at) => `m${at}`);
  const { checkout, first } = await world.hosted('stacks', {
    'tsunagi.yaml': `tsunagi: 1
tasks:
${names.map((name) => `  ${name}: { makes: [${name}], run: 'echo ${name} > ${name}' }`).join('\n')}
  all: { needs: [${names.join(', ')}], run: 'cat m*' }
`,
  });
  await checkout.push();
  expect((await world.waitRun('stacks', first)).state).toBe('passed');
  expect(readFileSync(join(data, 'logs/agent.log'), 'utf8')).not.toContain('MaxListenersExceededWarning');
});

describe('a machine that loses power', () => {
  const processes = (): number[] =>
    readdirSync('/proc')
      .filter((name) => /^\d+$/.test(name))
      .map(Number);
  /** Whether a process is of this installation: by its arguments, its variables or its folder. */
  const isOurs = (pid: number): boolean => {
    if (pid === process.pid) return false;
    try {
      const read = (what: string) => readFileSync(`/proc/${pid}/${what}`, 'latin1');
      return [read('cmdline'), read('environ'), readlinkSync(`/proc/${pid}/cwd`)].some((text) => text.includes(data));
    } catch {
      return false;
    }
  };
  const start = (): ChildProcess => {
    const ports = Object.entries(world.house.ports).flatMap(([name, port]) => ['--port', `${name}=${port}`]);
    return spawn(process.execPath, ['dist/tsunagi.js', 'serve', '--data', data, ...ports], {
      cwd: root,
      stdio: 'ignore',
      env: { PATH: process.env.PATH, LANG: 'C.UTF-8' },
    });
  };
  const answer = () =>
    world.visit(host).then(
      (one) => (one.status === 200 ? one.text : null),
      () => null,
    );
  const strangers: ChildProcess[] = [];
  afterAll(() => {
    for (const one of strangers) one.kill('SIGKILL');
  });

  it('starts again with everything that was live, and signals no stranger that has a number of before', async () => {
    await world.house.close();
    const first = start();
    const before = await until('the server answers', answer);
    // Nothing of it has time to do anything.
    first.kill('SIGSTOP');
    for (let left = processes().filter((pid) => pid !== first.pid && isOurs(pid)); left.length > 0; ) {
      for (const pid of left) spawnSync('kill', ['-KILL', String(pid)]);
      await new Promise((resolve) => setTimeout(resolve, 100));
      left = processes().filter((pid) => pid !== first.pid && isOurs(pid));
    }
    first.kill('SIGKILL');
    expect(await answer()).toBeNull();
    // The numbers are others' now.
    const stranger = (account = 'root') => {
      const one = spawn('setpriv', ['--reuid', account, '--clear-groups', 'sleep', '600'], { stdio: 'ignore' });
      strangers.push(one);
      return one.pid as number;
    };
    writeFileSync(join(data, 'serve.pid'), `${stranger()} of-another-boot 17\n`);
    for (const name of ['records', 'standing']) {
      const file = join(data, name, 'cluster/postmaster.pid');
      // The server refuses to start beside a process of its own account that has this number.
      writeFileSync(file, readFileSync(file, 'utf8').replace(/^\d+/, String(stranger('postgres'))));
    }
    const live = join(data, 'agent/live');
    const states = readdirSync(live).flatMap((id) => {
      const file = join(live, id, 'state.json');
      try {
        const state = JSON.parse(readFileSync(file, 'utf8')) as { keeper: number | null };
        if (state.keeper === null) return [];
        writeFileSync(file, JSON.stringify({ ...state, keeper: stranger() }));
        return [id];
      } catch {
        return [];
      }
    });
    expect(states.length).toBeGreaterThan(0);
    const second = start();
    try {
      const after = await until('the server answers again', answer);
      expect(Number(after)).toBeGreaterThan(0);
      const detail = await until('it is good', async () => {
        const one = await world.environment('pier', 'staging').catch(() => null);
        return one?.instances?.ready === 1 ? one : null;
      });
      expect([detail.live?.release, before !== null]).toEqual([1, true]);
      expect(strangers.map((one) => [one.exitCode, one.signalCode])).toEqual(strangers.map(() => [null, null]));
    } finally {
      const ended = second.exitCode === null ? new Promise((resolve) => second.once('exit', resolve)) : null;
      second.kill('SIGTERM');
      await ended;
    }
    expect(processes().filter(isOurs)).toEqual([]);
  });

  it('the service and the edge end when only `serve` is killed', async () => {
    const third = start();
    await until('the server answers', answer);
    const own = processes().filter(
      (pid) => isOurs(pid) && /enter\.js\0(service|edge)\0$/.test(readFileSync(`/proc/${pid}/cmdline`, 'latin1')),
    );
    expect(own).toHaveLength(2);
    third.kill('SIGKILL');
    await until('both have ended', async () => own.every((pid) => !isOurs(pid)));
    for (let left = processes().filter(isOurs); left.length > 0; left = processes().filter(isOurs)) {
      for (const pid of left) spawnSync('kill', ['-KILL', String(pid)]);
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
  });
});
