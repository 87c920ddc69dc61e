/** What work tries against the machine, against other projects, and against its own limits. Each was tried for real before. */
import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { findAccounts, findLimits } from '../../src/agent/sandbox/host.js';
import type { RunDetail } from '../../src/wire/runs.js';
import { type Checkout, openWorld, until, type World } from './world.js';

let world: World;
const MiB = 1024 ** 2;
const accounts = findAccounts();
beforeAll(async () => {
  world = await openWorld({
    // What an agent says of the one before it counts until the lease of that one has lapsed.
    timing: { lease: 20_000 },
    env: {
      TSUNAGI_LIMITS: JSON.stringify({
        memory: 512 * MiB,
        processes: 80,
        disk: 40 * MiB,
        files: 2_000,
        tmp: 16 * MiB,
        database: 48 * MiB,
      }),
    },
  });
});
afterAll(() => world?.close());

const agentFolder = () => join(world.folder, 'house/agent');
const checkouts = new Map<string, Checkout>();

/** Runs the tasks of a commit of a project of its own; a second call pushes another commit. */
const run = async (
  name: string,
  tasks: string,
  files: Record<string, string> = {},
  prepare?: (checkout: Checkout) => Promise<void>,
): Promise<RunDetail> => {
  const checkout = checkouts.get(name) ?? (await world.hosted(name, { 'a.txt': 'a' })).checkout;
  checkouts.set(name, checkout);
  await prepare?.(checkout);
  const commit = await checkout.commit({ ...files, 'tsunagi.yaml': `tsunagi: 1\ntasks:\n${tasks}` }, 'A try');
  await checkout.push();
  return world.waitRun(name, commit);
};
const only = (detail: RunDetail) => detail.taskList[0] as RunDetail['taskList'][number];
const logOf = async (detail: RunDetail) => world.log(only(detail).attempts[0]?.id as string);

describe('a cache', () => {
  it('behind a link of the repository is refused, and makes nothing on the machine', async () => {
    const outside = join(world.folder, 'outside');
    mkdirSync(outside, { mode: 0o777 });
    execFileSync('chmod', ['777', outside]);
    const detail = await run('linked', "  t: { run: 'echo hello', cache: [x/planted/] }\n", {}, async (checkout) => {
      execFileSync('ln', ['-sfn', `/oldroot${outside}`, join(checkout.folder, 'x')]);
    });
    expect([only(detail).state, only(detail).issue?.says]).toEqual([
      'failed',
      'The cache x lies behind a link, or is a file.',
    ]);
    expect(readdirSync(outside)).toEqual([]);
  });

  it('behind a link that an output brings is refused', async () => {
    const detail = await run(
      'brought',
      `  link: { run: 'ln -s /oldroot/tmp made', makes: [made] }\n  t: { needs: [link], run: 'echo hello', cache: [made/x/] }\n`,
    );
    expect(detail.taskList.map((task) => task.state)).toEqual(['passed', 'failed']);
    expect(detail.taskList[1]?.issue?.says).toContain('lies behind a link');
  });

  it('in another cache is refused: what earlier work left there leads nowhere', async () => {
    const detail = await run('nested', "  t: { run: 'echo hello', cache: [a/, a/b/] }\n");
    expect(detail.state).toBe('failed');
    expect(JSON.stringify(detail.definitionIssues) + JSON.stringify(only(detail)?.issue ?? null)).toMatch(/cache/);
  });

  it('is kept between attempts where nothing is in its way', async () => {
    await run('kept', "  t: { reuse: false, run: 'mkdir -p deep/er; echo once > deep/er/file', cache: [deep/er/] }\n");
    const second = await run('kept', "  t: { reuse: false, run: 'cat deep/er/file', cache: [deep/er/] }\n");
    expect((await logOf(second)).trim()).toBe('once');
  });
});

describe('stored layers', () => {
  it('that somebody else has put there are not believed', async () => {
    const first = await run(
      'victim',
      "  make: { run: 'echo true > good', makes: [good] }\n  t: { needs: [make], reuse: false, run: 'cat good' }\n",
    );
    expect(first.state).toBe('passed');
    const ready = join(agentFolder(), 'store/ready');
    const output = first.taskList[0]?.output?.digest.replace('sha256:', '').slice(0, 32);
    const name = `o${output}`;
    expect(readdirSync(ready)).toContain(name);
    // The word that one is whole is not its folder's existence.
    writeFileSync(join(ready, name), `sha256:${'0'.repeat(64)}`);
    const second = await run(
      'victim',
      "  make: { run: 'echo true > good', makes: [good] }\n  t: { needs: [make], reuse: false, run: 'cat good; echo again' }\n",
    );
    expect(second.state).toBe('passed');
    expect(readFileSync(join(ready, name), 'utf8')).not.toContain('0'.repeat(64));
  });

  it('are out of reach of the account of work, and read-only where work sees them', async () => {
    if (!accounts.work) return expect(process.getuid?.()).not.toBe(0);
    const store = join(agentFolder(), 'store');
    expect(statSync(store).mode & 0o777).toBe(0o700);
    expect(statSync(store).uid).toBe(0);
    const tried = (command: string) => {
      try {
        return execFileSync(
          'setpriv',
          [
            '--reuid',
            String(accounts.work?.uid),
            '--regid',
            String(accounts.work?.gid),
            '--clear-groups',
            'sh',
            '-c',
            command,
          ],
          {
            encoding: 'utf8',
            stdio: ['ignore', 'pipe', 'pipe'],
          },
        );
      } catch (error) {
        return String((error as { stderr?: string }).stderr);
      }
    };
    expect(tried(`ls ${store}`)).toContain('Permission denied');
    const pid = world.house.rooms.agent.pid();
    const mounts = readFileSync(`/proc/${pid}/mountinfo`, 'utf8').split('\n');
    const own = mounts.filter((line) => line.split(' ')[4] === join(agentFolder(), 'layers'));
    expect(own.map((line) => line.split(' ')[5])).toEqual([expect.stringMatching(/^ro,/)]);
    // The agent's mounts are its own: nothing of them is left when it has gone.
    expect(readFileSync('/proc/self/mountinfo', 'utf8')).not.toContain(join(agentFolder(), 'layers'));
  });
});

describe('what an attempt hands out', () => {
  it.each([
    ['a fifo', 'mkfifo out', 'fifo'],
    ['a socket', 'python3 -c "import socket; socket.socket(socket.AF_UNIX).bind(\'out\')"; test -S out', null],
    ['a sparse file longer than its disk', 'truncate -s 60G out', null],
    [
      'more than its disk',
      'for n in 1 2 3; do head -c 20000000 /dev/urandom > out$n; done; mkdir out; mv out? out/',
      null,
    ],
  ])('is refused: %s', async (_what, command, word) => {
    const name = `hands-${_what.replace(/\W+/g, '-')}`;
    const before = readdirSync(join(world.folder, 'house/service/blobs/blobs/sha256')).length;
    const detail = await run(name, `  t:\n    run: |\n      ${command}\n    makes: [out]\n`);
    const task = only(detail);
    expect(task.state).toBe('failed');
    if (word) expect(task.issue?.says).toContain(word);
    expect(task.issue?.says).toMatch(/output|full|larger/);
    expect(readdirSync(join(world.folder, 'house/service/blobs/blobs/sha256')).length).toBe(before);
  });

  it('comes from the runner alone: its descriptors are its own', async () => {
    const script = `import ctypes, os, sys
libc = ctypes.CDLL(None, use_errno=True)
def call(number, *args):
    result = libc.syscall(number, *args)
    return 'taken' if result >= 0 else os.strerror(ctypes.get_errno())
arch = os.uname().machine
getfd = 438
pidfd_open = 434
runner = 2
pidfd = libc.syscall(pidfd_open, runner, 0)
for fd in (3, 4, 5):
    print('descriptor', fd, call(getfd, pidfd, fd, 0))
try:
    print('listing', len(os.listdir('/proc/%d/fd' % runner)))
except OSError as error:
    print('listing', error.strerror)
try:
    open('/proc/%d/fd/4' % runner, 'wb')
    print('opened')
except OSError as error:
    print('opening', error.strerror)
print('trace', call(101 if arch == 'x86_64' else 117, 16, runner, 0, 0))
`;
    const detail = await run('descriptors', "  t: { run: 'python3 take.py' }\n", { 'take.py': script });
    const said = await logOf(detail);
    expect(detail.state).toBe('passed');
    expect(said).not.toMatch(/taken|opened|listing \d/);
    expect(said.match(/Operation not permitted|Permission denied/g)?.length).toBeGreaterThanOrEqual(5);
  });

  it('is bounded in files as in bytes', async () => {
    const task = only(await run('many', "  t: { run: 'for n in {1..5000}; do : > f$n; done; sleep 30' }\n"));
    expect([task.state, task.issue?.says]).toEqual([
      'failed',
      'It made more than the 2000 files that a task may make here.',
    ]);
  });

  it('counts what is written into caches', async () => {
    const task = only(
      await run(
        'hoarder',
        "  t: { cache: [keep/], run: 'for n in 1 2 3 4; do head -c 20000000 /dev/urandom > keep/$n; done; sleep 30' }\n",
      ),
    );
    expect([task.state, task.issue?.says]).toEqual([
      'failed',
      'The project’s folder is full: a task has 40 MiB there.',
    ]);
  });

  it('leaves no memory of the machine without a bound', async () => {
    const detail = await run(
      'memory',
      "  t: { run: 'for place in /dev/shm /run /var/tmp /tmp; do head -c 100000000 /dev/zero > $place/x 2>/dev/null && echo $place took it; done; true' }\n",
    );
    expect((await logOf(detail)).trim()).toBe('');
  });
});

describe('the kernel, from inside', () => {
  it('gives no namespace of its own, no keyring, no io_uring, no memory of others', async () => {
    const script = `import ctypes, os, socket
libc = ctypes.CDLL(None, use_errno=True)
x86 = os.uname().machine == 'x86_64'
def call(name, number, *args):
    result = libc.syscall(number, *args)
    print(name, 'GIVEN' if result >= 0 else os.strerror(ctypes.get_errno()))
call('unshare', 272 if x86 else 97, 0x10000000)
call('clone', 56 if x86 else 220, 0x10000000 | 17, 0, 0, 0, 0)
call('clone3', 435, 0, 0)
call('add_key', 248 if x86 else 217, b'user', b'x', b'y', 1, -3)
call('keyctl', 250 if x86 else 219, 0, -3, 1)
call('io_uring', 425, 1, 0)
call('bpf', 321 if x86 else 280, 0, 0, 0)
call('ptrace', 101 if x86 else 117, 0, 0, 0, 0)
call('read others', 310 if x86 else 270, 1, 0, 0, 0, 0, 0)
# Only made, never connected. In order: packets, ciphers of the kernel, Bluetooth, virtual machines.
for family in (17, 38, 31, 40):
    for number in ((41, 53) if x86 else (198, 199)):
        call('socket', number, family, 1, 0, (ctypes.c_int * 2)())
for family in (1, 2, 10):
    socket.socket(family).close()
socket.socketpair()
`;
    const detail = await run('kernel', "  t: { run: 'python3 ask.py' }\n", { 'ask.py': script });
    const said = (await logOf(detail)).trim().split('\n');
    expect(said.filter((line) => line.includes('GIVEN'))).toEqual([]);
    expect(said).toHaveLength(17);
    expect(said.filter((line) => /Operation not permitted|Function not implemented/.test(line))).toHaveLength(9);
    expect(said.filter((line) => line === 'socket Address family not supported by protocol')).toHaveLength(8);
  });

  it('gives each sandbox a share of what it counts for the account that all of them have', async () => {
    const script = `import ctypes, fcntl, os
libc = ctypes.CDLL(None, use_errno=True)
made = 0
while made < 200 and libc.inotify_init() >= 0: made += 1
print('inotify', made, os.strerror(ctypes.get_errno()))
_, end = os.pipe()
try:
    fcntl.fcntl(end, 1031, 1 << 20)
    print('pipe GIVEN')
except PermissionError:
    print('pipe refused')
fcntl.fcntl(end, fcntl.F_SETFL, os.O_NONBLOCK)
`;
    const detail = await run('shares', "  t: { run: 'python3 take.py & wait; python3 take.py' }\n", {
      'take.py': script,
    });
    // Both at once: what the first has taken is free again when it has ended.
    expect((await logOf(detail)).trim().split('\n')).toEqual([
      'inotify 16 Too many open files',
      'pipe refused',
      'inotify 16 Too many open files',
      'pipe refused',
    ]);
  });

  it('runs what people run: threads, children, pipes', async () => {
    const detail = await run(
      'usual',
      "  t: { run: [node thread.js, python3 thread.py, 'seq 3 | sort -r | tail -n 1'] }\n",
      {
        'thread.js':
          "const { Worker } = require('worker_threads');\nnew Worker('1', { eval: true }).on('exit', (code) => console.log('thread', code));\n",
        'thread.py':
          "import subprocess, threading\nthreading.Thread(target=lambda: print(subprocess.check_output(['echo', 'child']).decode().strip())).start()\n",
      },
    );
    expect([detail.state, await logOf(detail)]).toEqual(['passed', 'thread 0\nchild\n1\n']);
  });
});

describe('a fork bomb', () => {
  it('ends within its group, at once; the agent goes on, and keeps its lease', async () => {
    if (findLimits() === 'none') return expect(findLimits()).toBe('none');
    const began = performance.now();
    const detail = await run(
      'bomb',
      "  t: { timeout: 5s, run: 'f() { f | f & }; f; sleep 60' }\n  calm: { run: 'echo still here' }\n",
    );
    expect(detail.taskList.find((task) => task.name === 'calm')?.state).toBe('passed');
    const task = only(detail);
    expect([task.state, task.attempts.length]).toEqual(['failed', 1]);
    expect((performance.now() - began) / 1000).toBeLessThan(60);
    const { items } = await world.api().get<{ items: { alive: boolean }[] }>('/api/agents');
    expect(items.every((one) => one.alive)).toBe(true);
  });
});

describe('databases of tasks', () => {
  it('are bounded in size, in words', async () => {
    const detail = await run(
      'database',
      '  t: { resources: { db: { kind: postgres } }, variables: { URL: { from: db.url } }, run: bash fill.sh }\n',
      {
        'fill.sh':
          'psql "$URL" -qc "create table t as select md5(random()::text) || md5(random()::text) as text from generate_series(1, 900000)"\nsleep 60\n',
      },
    );
    expect([only(detail).state, only(detail).issue?.says]).toEqual([
      'failed',
      'Its databases took more than the 48 MiB that a task has for them.',
    ]);
  });
});

describe('an agent that took its task along', () => {
  it('does not get it again', async () => {
    if (findLimits() === 'none') return expect(findLimits()).toBe('none');
    // Groups are used again: what was refused to earlier work is counted, too.
    const refused = () =>
      readdirSync(join(agentFolder(), 'pipes'))
        .map((name) => `/sys/fs/cgroup/pids/tsunagi-${name}/pids.events`)
        .reduce((sum, path) => sum + Number(existsSync(path) && /max (\d+)/.exec(readFileSync(path, 'utf8'))?.[1]), 0);
    const { checkout } = await world.hosted('along', { 'a.txt': 'a' });
    const before = refused();
    const commit = await checkout.commitAndPush({
      'tsunagi.yaml':
        "tsunagi: 1\ntasks:\n  t: { run: 'f() { sleep 99 & }; for n in {1..200}; do f; done 2>/dev/null; sleep 99' }\n",
    });
    const running = await until('it is over its limit', async () => {
      const { items } = await world.api().get<{ items: { number: number }[] }>('/api/runs?project=along');
      const found = items[0] && (await world.api().get<RunDetail>(`/api/projects/along/runs/${items[0].number}`));
      return found && only(found)?.attempts[0]?.state === 'running' ? found : null;
    });
    await until('processes were refused', async () => refused() > before);
    process.kill(world.house.rooms.agent.pid() as number, 'SIGKILL');
    const detail = await world.waitRun('along', commit);
    expect(detail.number).toBe(running.number);
    expect([detail.state, only(detail).attempts.length]).toEqual(['failed', 1]);
    expect(only(detail).issue?.says).toContain('took its agent');
  });
});

describe('the process that starts chains', () => {
  it('takes what it has started along when it dies: that is done again, and says nothing of the work', async () => {
    const { checkout } = await world.hosted('starter', { 'a.txt': 'a' });
    const commit = await checkout.commitAndPush({
      'tsunagi.yaml': "tsunagi: 1\ntasks:\n  t: { run: ['echo begun', 'sleep 4', 'echo through'] }\n",
    });
    await until('it runs', async () => {
      const { items } = await world.api().get<{ items: { number: number }[] }>('/api/runs?project=starter');
      const found = items[0] && (await world.api().get<RunDetail>(`/api/projects/starter/runs/${items[0].number}`));
      return found && only(found)?.attempts[0]?.commands?.some((one) => one.state === 'passed');
    });
    const starter = () =>
      readdirSync('/proc').find((pid) => {
        try {
          const line = readFileSync(`/proc/${pid}/cmdline`, 'utf8').split('\0');
          return line[0] === 'bash' && line[1] === join(agentFolder(), 'bin/starter.sh');
        } catch {
          return false;
        }
      });
    const first = starter();
    process.kill(Number(first), 'SIGKILL');
    const detail = await world.waitRun('starter', commit);
    expect(detail.state).toBe('passed');
    expect(only(detail).attempts.map((one) => one.state)).toEqual(['lost', 'passed']);
    expect(starter()).not.toBe(first);
  });
  it('uses places again, which are empty then', async () => {
    const names = Array.from({ length: 12 }, (_, at) => `t${at}`);
    const detail = await run(
      'places',
      names
        .map((name) => `  ${name}: { run: '(sleep 66.6 &) ; echo left by ${name} > /tmp/left; ls /tmp /project' }\n`)
        .join(''),
    );
    expect(detail.state).toBe('passed');
    await until('places are given back', async () => readdirSync(join(agentFolder(), 'pipes')).length <= 6);
    const lines = readdirSync('/proc').map((pid) => {
      try {
        return readFileSync(`/proc/${pid}/cmdline`, 'utf8');
      } catch {
        return '';
      }
    });
    expect(lines.filter((line) => line.includes('66.6'))).toEqual([]);
  });
  it('hands on variables of any name, and commands of any length, and keeps its own to itself', async () => {
    const long = `true ${'x'.repeat(90_000)}`;
    const detail = await run(
      'names',
      `  t:
    variables: { mark: a, commands: b, status: c, pair: d, IFS: ',', _variables: e, UID: '7' }
    run:
      - ${long}
      - test "$mark$commands$status$pair" = abcd
      - test "$(command -v cat)" = /usr/bin/cat
      - test -z "\${results-}\${coverage-}\${position-}\${began-}"
      - 'for fd in 3 4 5 6; do ! [ -e /proc/self/fd/$fd ] || exit 1; done'
`,
    );
    expect([detail.state, detail.issue, only(detail)?.issue]).toEqual(['passed', null, null]);
  });
  it('writes the variables of an attempt into no file and on no command line', async () => {
    const { checkout } = await world.hosted('unwritten', { 'a.txt': 'a' });
    const value = 'stands-nowhere-4711';
    const commit = await checkout.commitAndPush({
      'tsunagi.yaml': `tsunagi: 1\ntasks:\n  t: { variables: { V: ${value} }, run: ['echo "$V" > told; sleep 2.5'], makes: [told] }\n`,
    });
    const works = join(agentFolder(), 'work');
    const seen = (path: string): string => {
      try {
        return readFileSync(path, 'latin1');
      } catch {
        return '';
      }
    };
    const told = await until('it has written its file', async () =>
      readdirSync(works)
        .map((name) => join(works, name))
        .find((folder) => seen(join(folder, 'u/told')).includes(value)),
    );
    const files = readdirSync(works, { recursive: true, encoding: 'utf8' }).map((path) => join(works, path));
    expect(files.filter((path) => seen(path).includes(value))).toEqual([join(told, 'u/told')]);
    const lines = readdirSync('/proc').filter((pid) => seen(`/proc/${pid}/cmdline`).includes(value));
    expect(lines).toEqual([]);
    expect((await world.waitRun('unwritten', commit)).state).toBe('passed');
  });
});
