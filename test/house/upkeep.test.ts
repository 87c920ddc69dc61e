/** What upkeep lets go of, on a real database: secrets that were replaced, roles, drafts of keys that were cut short. */
import { createCipheriv, randomBytes } from 'node:crypto';
import {
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { spawn, spawnSync } from 'node:child_process';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { lockData } from '../../src/cli/serve/lock.js';
import { beginningOf } from '../../src/cli/serve/process.js';
import { openKeys } from '../../src/keys/keys.js';
import { root } from './world.js';

let folder: string;
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-upkeep-'));
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

describe('the keys', () => {
  const at = (name: string) => join(folder, name);

  it('read what was encrypted before a renewal, until the older one is forgotten', () => {
    const keys = openKeys(at('a'));
    const sealed = keys.encrypt('low water');
    expect([keys.older(), sealed.subarray(0, 5).equals(keys.head())]).toEqual([0, true]);
    keys.renew();
    expect([keys.older(), sealed.subarray(0, 5).equals(keys.head())]).toEqual([1, false]);
    expect(keys.decrypt(sealed)).toBe('low water');
    const again = keys.encrypt('low water');
    // What was encrypted before may still be written.
    expect(keys.forgetOlder(60_000)).toBe(0);
    expect(keys.decrypt(sealed)).toBe('low water');
    expect(keys.forgetOlder(60_000, Date.now() + 61_000)).toBe(1);
    expect(keys.decrypt(again)).toBe('low water');
    expect(() => keys.decrypt(sealed)).toThrow('no key opens this');
  });

  it('lose nothing of a renewal that was cut short, nor of one that comes between', () => {
    const [keys, other] = [openKeys(at('b')), openKeys(at('b'))];
    const all = [keys.encrypt('first')];
    const before = readFileSync(join(at('b'), 'data.key'));
    keys.renew();
    all.push(other.encrypt('second'));
    // Cut before the new one was put in the place of the present one.
    writeFileSync(join(at('b'), 'data.key'), before, { mode: 0o600 });
    all.push(keys.encrypt('third'));
    other.renew();
    keys.renew();
    all.push(keys.encrypt('fourth'));
    expect(all.map((one) => openKeys(at('b')).decrypt(one))).toEqual(['first', 'second', 'third', 'fourth']);
    expect(readdirSync(at('b')).filter((name) => (statSync(join(at('b'), name)).mode & 0o777) !== 0o600)).toEqual([]);
  });

  it('read what was encrypted before it named its key, with either of the two keys that there were', () => {
    const secrets = [randomBytes(32), randomBytes(32)] as const;
    mkdirSync(at('f'));
    writeFileSync(join(at('f'), 'data.key'), secrets[0]);
    writeFileSync(join(at('f'), 'data-old.key'), secrets[1]);
    const earlier = secrets.map((secret) => {
      const nonce = randomBytes(12);
      const cipher = createCipheriv('aes-256-gcm', secret, nonce);
      const body = Buffer.concat([cipher.update('high water'), cipher.final()]);
      return Buffer.concat([nonce, cipher.getAuthTag(), body]);
    });
    const keys = openKeys(at('f'));
    expect(earlier.map((one) => keys.decrypt(one))).toEqual(['high water', 'high water']);
    expect([keys.older(), existsSync(join(at('f'), 'data-old.key'))]).toEqual([1, false]);
  });

  it('are the same for two services that share the folder, also after a renewal by one of them', () => {
    const [one, two] = [openKeys(at('c')), openKeys(at('c'))];
    one.renew();
    expect(two.decrypt(one.encrypt('x'))).toBe('x');
    expect(one.decrypt(two.encrypt('y'))).toBe('y');
    expect(one.hash('z')).toBe(two.hash('z'));
    expect(one.hash('z')).not.toBe(openKeys(at('d')).hash('z'));
  });

  it('never give the same bytes twice for the same text, and tell what was changed', () => {
    const keys = openKeys(at('e'));
    const [one, two] = [keys.encrypt('same'), keys.encrypt('same')];
    expect(one.equals(two)).toBe(false);
    for (let place = 0; place < one.length; place += 7) {
      const broken = Buffer.from(one);
      broken[place] = (broken[place] as number) ^ 1;
      expect(() => keys.decrypt(broken)).toThrow();
    }
    expect(() => keys.decrypt(Buffer.alloc(5))).toThrow();
  });
});

describe('the folder of a house', () => {
  it('is held by one process, known by its number and its beginning', () => {
    const data = join(folder, 'held');
    mkdirSync(data);
    const file = join(data, 'serve.pid');
    const free = lockData(data);
    expect(readFileSync(file, 'utf8')).toBe(`${process.pid} ${beginningOf(process.pid)}\n`);
    free();
    const other = spawn('sleep', ['30']);
    try {
      const [pid, beginning] = [other.pid as number, beginningOf(other.pid as number)];
      writeFileSync(file, `${pid} ${beginning}\n`);
      expect(() => lockData(data)).toThrow(`in use by process ${pid}`);
      // The same number after a reboot, or long after, is another process.
      for (const earlier of [
        `${pid} ${beginning?.replace(/\d+$/, '1')}\n`,
        `${pid} of-another-boot 17\n`,
        `${pid}`,
        '',
        'x',
      ]) {
        writeFileSync(file, earlier);
        lockData(data)();
        expect(readdirSync(data)).toEqual([]);
      }
    } finally {
      other.kill('SIGKILL');
    }
    // One that has gone holds nothing.
    writeFileSync(file, '2147483646 x 1\n');
    lockData(data)();
  });
});

describe('set-up', () => {
  it('names what is missing, with the command that would install it, where it may not install', () => {
    // A machine without these tools, as somebody who is not root.
    const fake = join(folder, 'other.mjs');
    writeFileSync(
      fake,
      `process.getuid = () => 1000;\nawait import(${JSON.stringify(join(root, 'scripts/setup.mjs'))});\n`,
    );
    const told = spawnSync(process.execPath, [fake], { encoding: 'utf8', env: { PATH: '/nonexistent' } });
    expect(told.status).toBe(1);
    expect(told.stderr).toMatch(
      /These packages are missing: git.*\nInstall them: {2}sudo apt-get install -y --no-install-recommends git/,
    );
  });

  it('refuses a Node that is too old, by name', () => {
    const fake = join(folder, 'old.mjs');
    writeFileSync(
      fake,
      `Object.defineProperty(process, 'versions', { value: { ...process.versions, node: '18.1.0' } });\nawait import(${JSON.stringify(join(root, 'scripts/setup.mjs'))});\n`,
    );
    const told = spawnSync(process.execPath, [fake], { encoding: 'utf8' });
    expect(told.status).toBe(1);
    expect(told.stderr).toContain('Node.js 18.1.0 is too old: 20.19 or newer is needed.');
  });
});
