import { existsSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { findLimits } from '../../src/agent/sandbox/host.js';
import type { FoundLines, LogChunk } from '../../src/wire/logs.js';
import type { Run, RunDetail } from '../../src/wire/runs.js';
import { openWorld, until, type World } from './world.js';

let world: World;
const MiB = 1024 ** 2;
beforeAll(async () => {
  world = await openWorld({
    env: {
      TSUNAGI_LIMITS: JSON.stringify({ memory: 256 * MiB, processes: 60, disk: 40 * MiB, tmp: 16 * MiB }),
      TSUNAGI_LOG_LIMIT: String(2_000_000),
    },
  });
});
afterAll(() => world?.close());

const run = async (name: string, tasks: string, files: Record<string, string> = {}): Promise<RunDetail> => {
  const { checkout } = await world.hosted(name, {
    'a.txt': 'a',
    ...files,
    'tsunagi.yaml': `tsunagi: 1\ntasks:\n${tasks}`,
  });
  await checkout.push();
  return until(`the run of ${name}`, async () => {
    const found = await world.api().get<RunDetail>(`/api/projects/${name}/runs/1`);
    return found.endedAt ? found : null;
  });
};
const only = (detail: RunDetail) => detail.taskList[0] as RunDetail['taskList'][number];

describe('a task that takes more than it may', () => {
  const limited = findLimits() !== 'none';

  it('of memory is ended, and that is said', async () => {
    if (!limited) return expect(findLimits()).toBe('none');
    const task = only(
      await run('hungry', '  t: { run: \'node -e "const a = []; for (;;) a.push(Buffer.alloc(1e7, 1))"\' }\n'),
    );
    expect([task.state, task.issue?.code]).toEqual(['failed', 'out_of_memory']);
    expect(task.issue?.says).toContain('256 MiB');
  });

  it('of processes is refused them: a fork bomb ends with its task, and others go on', async () => {
    if (!limited) return expect(findLimits()).toBe('none');
    const task = only(
      await run(
        'bomb',
        "  t: { timeout: 20s, run: 'f() { f | f & }; f; until ((SECONDS > 1)); do :; done; exit 1' }\n  calm: { run: 'echo still here' }\n",
      ),
    );
    expect(task.state).toBe('failed');
    expect(task.issue?.code).toBe('too_many_processes');
    const after = await world.api().get<RunDetail>('/api/projects/bomb/runs/1');
    expect(after.taskList[1]?.state).toBe('passed');
  });

  it('of disk is ended', async () => {
    const task = only(
      await run('filler', '  t: { run: "for n in {1..99}; do head -c 10000000 /dev/zero > big$n; sleep 0.2; done" }\n'),
    );
    expect([task.state, task.issue?.says]).toEqual([
      'failed',
      'The project’s folder is full: a task has 40 MiB there.',
    ]);
  });

  it('of /tmp or HOME gets no more room there, and that is said', async () => {
    expect(only(await run('tmp', "  t: { run: 'head -c 30000000 /dev/zero > /tmp/x' }\n")).issue?.says).toBe(
      '/tmp is full: a task has 16 MiB there.',
    );
    expect(only(await run('home', "  t: { run: 'head -c 30000000 /dev/zero > ~/x' }\n")).issue?.says).toBe(
      'HOME is full: a task has 16 MiB there.',
    );
  });

  it('leaves nothing behind: no process, no folder, no group', async () => {
    const daemon = await run(
      'daemon',
      '  t: { run: \'setsid -f sleep 77.7; (trap "" TERM; sleep 78.8) & echo done\' }\n',
    );
    expect(daemon.state).toBe('passed');
    const works = join(world.folder, 'house/agent/work');
    await until('only chains that stand ready are left', async () => readdirSync(works).length <= 2);
    const groups = '/sys/fs/cgroup/pids';
    const ready = readdirSync(works);
    if (existsSync(groups))
      await until('their groups are gone', async () => readdirSync(works).every((name) => ready.includes(name)));
    const running = readdirSync('/proc').filter((pid) => /^\d+$/.test(pid));
    const { readFileSync } = await import('node:fs');
    const lines = running.map((pid) => {
      try {
        return readFileSync(`/proc/${pid}/cmdline`, 'utf8');
      } catch {
        return '';
      }
    });
    expect(lines.filter((line) => line.includes('77.7') || line.includes('78.8'))).toEqual([]);
  });
});

describe('a log that is longer than is kept', () => {
  let task: RunDetail['taskList'][number];
  let chunks: LogChunk[];
  const lines = 200_000;
  beforeAll(async () => {
    const detail = await run('chatty', `  t: { run: ['echo first', 'seq ${lines}', 'echo last'] }\n`);
    expect(detail.state).toBe('passed');
    task = only(detail);
    chunks = [];
    for (let next: string | null = '0'; next !== null; ) {
      const page: { items: LogChunk[]; next: string | null } = await world
        .api()
        .get(`/api/attempts/${task.attempts[0]?.id}/log?from=${next}`);
      chunks.push(...page.items);
      next = page.next;
    }
  });

  it('fits, with its head and its tail, and the gap is said and counted', () => {
    // `seq 200000` alone is 1.29 MB; both ends and what is between fit the limit of 2 MB, so nothing is left out.
    const text = chunks.map((chunk) => chunk.text).join('');
    expect(text.split('\n').length - 1).toBe(lines + 2);
    expect(chunks.every((chunk) => chunk.skipped === null)).toBe(true);
    expect(task.attempts[0]?.commands.map((command) => command.firstLine)).toEqual([0, 1, lines + 1]);
  });

  it('leaves out the middle when it does not fit', async () => {
    const many = 1_000_000;
    const detail = await run('endless', `  t: { run: ['echo first', 'seq ${many}', 'echo last'] }\n`);
    const attempt = only(detail).attempts[0];
    expect(attempt?.logLines).toBe(many + 2);
    const all: LogChunk[] = [];
    for (let next: string | null = '0'; next !== null; ) {
      const page: { items: LogChunk[]; next: string | null } = await world
        .api()
        .get(`/api/attempts/${attempt?.id}/log?from=${next}`);
      all.push(...page.items);
      next = page.next;
    }
    const gaps = all.filter((chunk) => chunk.skipped);
    expect(gaps).toHaveLength(1);
    const kept = all.reduce((sum, chunk) => sum + Buffer.byteLength(chunk.text), 0);
    expect(kept).toBeLessThanOrEqual(2_000_000);
    expect(kept).toBeGreaterThan(1_400_000);
    expect(kept + (gaps[0]?.skipped?.bytes ?? 0)).toBe(6 + 6_888_896 + 5);
    // Every line that is there has the number that it was printed with.
    for (const chunk of all.filter((one) => one.command === 1)) {
      const [first = ''] = chunk.text.split('\n');
      if (chunk.skipped) expect(first).toBe(String(chunk.firstLine));
    }
    expect(
      all
        .map((chunk) => chunk.text)
        .join('')
        .startsWith('first\n1\n2\n'),
    ).toBe(true);
    expect(all.at(-1)?.text.endsWith('last\n')).toBe(true);
    expect(attempt?.commands.map((command) => command.firstLine)).toEqual([0, 1, many + 1]);
  });

  it('is searched, from any line on, and across its chunks', async () => {
    const path = `/api/attempts/${task.attempts[0]?.id}/log/search`;
    const found = await world.api().get<FoundLines>(`${path}?text=1234&limit=5`);
    expect(found.found.map((one) => one.text)).toEqual(['1234', '11234', '12340', '12341', '12342']);
    expect(found.found.every((one) => String(one.line) === one.text)).toBe(true);
    const more = await world.api().get<FoundLines>(`${path}?text=1234&limit=5&from=${found.next}`);
    expect(more.found[0]?.text).toBe('12343');
    const every = await world.api().get<FoundLines>(`${path}?text=99&limit=1000`);
    expect(every.found.map((one) => one.line)).toEqual(every.found.map((one) => Number(one.text)));
    expect(await world.api().get<FoundLines>(`${path}?text=LAST`)).toMatchObject({
      found: [{ text: 'last' }],
      next: null,
    });
    expect(await world.api().get<FoundLines>(`${path}?text=nowhere`)).toEqual({ found: [], next: null });
    expect((await world.api().raw('GET', `${path}?text=`)).body.code).toBe('body_invalid');
  });

  it('is printed by the command line, or only the lines that have a text', async () => {
    const log = (...args: string[]) => world.cli('run', 'log', '1', 't', '--project', 'chatty', ...args);
    const whole = await log();
    expect([whole.status, whole.out.split('\n').length]).toEqual([0, lines + 3]);
    expect(whole.out.startsWith('first\n1\n2\n')).toBe(true);
    expect((await log('--search', '123456')).out).toBe(' 123457  123456\n');
    expect((await log('--search', 'nowhere')).status).toBe(1);
    expect((await log('--attempt', '2')).err).toContain('Attempt 2 of t');
    expect((await world.cli('run', 'log', '1', 'tt', '--project', 'chatty')).err).toContain('Did you mean `t`');
    const gap = await world.cli('run', 'log', '1', 't', '--project', 'endless');
    expect(gap.out).toMatch(/^\[\d+ lines are not kept\]$/m);
  });

  it('is had as a whole text', async () => {
    const answer = await fetch(`${world.url}/api/attempts/${task.attempts[0]?.id}/log/text`, {
      headers: { authorization: `Bearer ${world.house.token}` },
    });
    expect([answer.status, answer.headers.get('content-type')]).toEqual([200, 'text/plain; charset=utf-8']);
    expect(answer.headers.get('content-disposition')).toContain('attachment');
    expect((await answer.text()).split('\n').slice(-4)).toEqual([String(lines - 1), String(lines), 'last', '']);
  });

  it('does not keep other tasks from being seen within a moment', async () => {
    const { checkout } = await world.hosted('loud', {
      'a.txt': 'a',
      'tsunagi.yaml':
        "tsunagi: 1\ntasks:\n  loud: { timeout: 6s, run: 'yes this is a line that says nothing at all' }\n  quiet: { run: 'echo here; sleep 1' }\n",
    });
    await checkout.push();
    const began = Date.now();
    const quiet = await until('the quiet one has passed', async () => {
      const detail = await world.api().get<RunDetail>('/api/projects/loud/runs/1');
      return detail.taskList.find((one) => one.name === 'quiet' && one.state === 'passed') ?? null;
    });
    expect(quiet.attempts[0]?.logLines).toBe(1);
    expect(Date.now() - began).toBeLessThan(20_000);
    const over = await until('the loud one has ended', async () => {
      const detail = await world.api().get<RunDetail>('/api/projects/loud/runs/1');
      return detail.endedAt ? detail : null;
    });
    expect(only(over).issue?.code).toBe('task_timeout');
    expect((await world.api().get<{ items: Run[] }>('/api/runs?project=loud')).items[0]?.state).toBe('failed');
  });
});
