/** What `serve` gives to its processes, and the logs that it keeps of them. */
import { EventEmitter, getEventListeners } from 'node:events';
import { appendFileSync, closeSync, existsSync, mkdtempSync, openSync, readFileSync, rmSync, writeSync } from 'node:fs';
import { createServer } from 'node:http';
import { type AddressInfo, connect } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { rotateLog } from '../../src/cli/serve/logs.js';
import { openEnding, untilClosed } from '../../src/service/signals.js';
import { settingsOf, unknownVariables, variablesFor } from '../../src/cli/serve/settings.js';
import { until } from './world.js';

let folder: string;
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-logs-'));
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

describe('a log of a process', () => {
  it('is rotated while the process has it open, keeps what was written, and so many older ones', () => {
    const file = join(folder, 'agent.log');
    const open = openSync(file, 'a', 0o600);
    const bounds = { mostBytes: 100, keep: 3 };
    for (let round = 1; round <= 6; round++) {
      writeSync(open, `round ${round} ${'x'.repeat(120)}\n`);
      rotateLog(file, bounds);
      expect(readFileSync(file, 'utf8')).toBe('');
    }
    writeSync(open, 'after\n');
    rotateLog(file, bounds);
    closeSync(open);
    expect(readFileSync(file, 'utf8')).toBe('after\n');
    expect([1, 2, 3].map((at) => readFileSync(`${file}.${at}`, 'utf8').slice(0, 7))).toEqual([
      'round 6',
      'round 5',
      'round 4',
    ]);
    expect(existsSync(`${file}.4`)).toBe(false);
  });

  it('that is not there, or small, stays as it is', () => {
    const file = join(folder, 'small.log');
    rotateLog(file, { mostBytes: 100, keep: 3 });
    expect(existsSync(file)).toBe(false);
    appendFileSync(file, 'small');
    rotateLog(file, { mostBytes: 100, keep: 3 });
    expect(readFileSync(file, 'utf8')).toBe('small');
  });
});

describe('the end of requests', () => {
  it('is that of the service too, and leaves nothing behind at its signal', () => {
    const closing = new AbortController();
    const requests = Array.from({ length: 100 }, () => new EventEmitter());
    const signals = requests.map((one) => untilClosed(one, closing.signal));
    expect(getEventListeners(closing.signal, 'abort')).toHaveLength(100);
    for (const one of requests.slice(1)) one.emit('close');
    expect(getEventListeners(closing.signal, 'abort')).toHaveLength(1);
    expect(signals.map((one) => one.aborted)).toEqual([false, ...Array(99).fill(true)]);
    closing.abort();
    expect(signals[0]?.aborted).toBe(true);
    expect(openEnding(closing.signal).signal.aborted).toBe(true);
  });

  it('is there at once where the client has gone before it was listened for', async () => {
    const closing = new AbortController();
    const late: AbortSignal[] = [];
    const server = createServer((request, response) => {
      request.on('close', () => setTimeout(() => late.push(untilClosed(response, closing.signal)), 50));
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    try {
      for (let n = 0; n < 3; n++) {
        const socket = connect((server.address() as AddressInfo).port, '127.0.0.1');
        socket.on('error', () => {});
        socket.write('POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 10\r\n\r\n');
        setTimeout(() => socket.destroy(), 20);
      }
      await until('all have been listened for', async () => late.length === 3);
      expect(late.map((one) => one.aborted)).toEqual([true, true, true]);
      expect(getEventListeners(closing.signal, 'abort')).toEqual([]);
    } finally {
      server.close();
    }
  });
});

describe('settings', () => {
  const env = {
    TSUNAGI_MAIL: '{"password":"secret"}',
    TSUNAGI_TASK_SETTINGS: '{"TOKEN":"secret"}',
    TSUNAGI_BOUNDS: '{}',
    TSUNAGI_LOG_LEVEL: 'warn',
    TSUNAGI_MIAL: '{}',
    PATH: '/bin',
  };

  it('go to the processes that read them alone', () => {
    const namesFor = (name: string) => Object.keys(variablesFor(name, env)).sort();
    expect(namesFor('service')).toEqual(['PATH', 'TSUNAGI_LOG_LEVEL', 'TSUNAGI_MAIL']);
    expect(namesFor('agent')).toEqual(['PATH', 'TSUNAGI_LOG_LEVEL', 'TSUNAGI_TASK_SETTINGS']);
    expect(namesFor('edge')).toEqual(['PATH', 'TSUNAGI_BOUNDS', 'TSUNAGI_LOG_LEVEL']);
  });

  it('that no process reads are named', () => expect(unknownVariables(env)).toEqual(['TSUNAGI_MIAL']));

  it('are read by the processes that list them alone', () => {
    expect(settingsOf('edge', env).get('BOUNDS')).toBe('{}');
    expect(() => settingsOf('edge', env).get('MAIL')).toThrow('not in its list');
  });
});
