/** What upkeep lets go of, on a real database: secrets that were replaced, roles, drafts of keys that were cut short. */
import { copyFileSync, existsSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { spawnSync } from 'node:child_process';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { openKeys } from '../../src/keys/keys.js';
import { root } from './world.js';

let folder: string;
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'tsunagi-upkeep-'));
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

describe('the keys', () => {
  const at = (name: string) => join(folder, name);

  it('read what was encrypted before a renewal, until the old one is forgotten', () => {
    const keys = openKeys(at('a'));
    const sealed = keys.encrypt('low water');
    keys.renew();
    expect(keys.decrypt(sealed)).toBe('low water');
    const anew = keys.encrypt('low water');
    keys.forgetOld();
    expect(keys.decrypt(anew)).toBe('low water');
    expect(() => keys.decrypt(sealed)).toThrow('no key opens this');
  });

  it('go on with a renewal that was cut short, at either step', () => {
    const keys = openKeys(at('b'));
    const sealed = keys.encrypt('one');
    const [current, old] = [join(at('b'), 'data.key'), join(at('b'), 'data-old.key')];
    // Cut after the old one was put aside: nothing is new yet.
    copyFileSync(current, old);
    keys.renew();
    expect(readFileSync(old).equals(readFileSync(current))).toBe(false);
    expect(keys.decrypt(sealed)).toBe('one');
    // Cut after the new one was there: another renewal does not lose the first key.
    const before = readFileSync(current);
    keys.renew();
    expect(readFileSync(current).equals(before)).toBe(true);
    expect(keys.decrypt(sealed)).toBe('one');
    keys.forgetOld();
    expect(existsSync(old)).toBe(false);
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
