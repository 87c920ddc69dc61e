/** What upkeep lets go of, on a real database: secrets that were replaced, roles, drafts of keys that were cut short. */
import { sealedPlace } from '../../src/keys/places.js';
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
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
    const sealed = keys.encrypt('low water', 'here');
    expect([keys.older(), sealed.subarray(0, 5).equals(keys.head())]).toEqual([0, true]);
    keys.renew();
    expect([keys.older(), sealed.subarray(0, 5).equals(keys.head())]).toEqual([1, false]);
    expect(keys.decrypt(sealed, 'here')).toBe('low water');
    const again = keys.encrypt('low water', 'here');
    // What was encrypted before may still be written.
    expect(keys.forgetOlder(60_000)).toBe(0);
    expect(keys.decrypt(sealed, 'here')).toBe('low water');
    expect(keys.forgetOlder(60_000, Date.now() + 61_000)).toBe(1);
    expect(keys.decrypt(again, 'here')).toBe('low water');
    expect(() => keys.decrypt(sealed, 'here')).toThrow('no key opens this');
  });

  it('lose nothing of a renewal that was cut short, nor of one that comes between', () => {
    const [keys, other] = [openKeys(at('b')), openKeys(at('b'))];
    const all = [keys.encrypt('first', 'here')];
    const before = readFileSync(join(at('b'), 'data.key'));
    keys.renew();
    all.push(other.encrypt('second', 'here'));
    // Cut before the new one was put in the place of the present one.
    writeFileSync(join(at('b'), 'data.key'), before, { mode: 0o600 });
    all.push(keys.encrypt('third', 'here'));
    other.renew();
    keys.renew();
    all.push(keys.encrypt('fourth', 'here'));
    expect(all.map((one) => openKeys(at('b')).decrypt(one, 'here'))).toEqual(['first', 'second', 'third', 'fourth']);
    expect(readdirSync(at('b')).filter((name) => (statSync(join(at('b'), name)).mode & 0o777) !== 0o600)).toEqual([]);
  });

  it('open nothing that was moved to another row', () => {
    const keys = openKeys(at('f'));
    const [mine, other] = [sealedPlace('logins', 'a'), sealedPlace('logins', 'b')];
    const sealed = keys.encrypt('high water', mine);
    expect(keys.decrypt(sealed, mine)).toBe('high water');
    for (const place of [other, sealedPlace('snapshots', 'a'), sealedPlace('logins', 'a', ''), ''])
      expect(() => keys.decrypt(sealed, place)).toThrow('no key opens this');
    // Names that run into each other are different places.
    expect(sealedPlace('variables', 'p', 'a', 'b c', 1)).not.toBe(sealedPlace('variables', 'p', 'a b', 'c', 1));
  });

  it('are the same for two services that share the folder, also after a renewal by one of them', () => {
    const [one, two] = [openKeys(at('c')), openKeys(at('c'))];
    one.renew();
    expect(two.decrypt(one.encrypt('x', 'here'), 'here')).toBe('x');
    expect(one.decrypt(two.encrypt('y', 'here'), 'here')).toBe('y');
    expect(one.hash('z')).toBe(two.hash('z'));
    expect(one.hash('z')).not.toBe(openKeys(at('d')).hash('z'));
  });

  it('never give the same bytes twice for the same text, and tell what was changed', () => {
    const keys = openKeys(at('e'));
    const [one, two] = [keys.encrypt('same', 'here'), keys.encrypt('same', 'here')];
    expect(one.equals(two)).toBe(false);
    for (let place = 0; place < one.length; place += 7) {
      const broken = Buffer.from(one);
      broken[place] = (broken[place] as number) ^ 1;
      expect(() => keys.decrypt(broken, 'here')).toThrow();
    }
    expect(() => keys.decrypt(Buffer.alloc(5), 'here')).toThrow();
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
