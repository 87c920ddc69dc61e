import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import type { Task } from '../../src/core/definition/model';
import { fingerprint, fingerprintInputs } from '../../src/core/fingerprint/inputs';
import { formsOf, makeMasker } from '../../src/core/secrets/mask';
import type { PinnedSet } from '../../src/core/variables/task';

const key = 'p4ss/w+rd "of" the=price';
const secrets = { SMS_KEY: key };
const mask = (text: string, of: Record<string, string> = secrets) => makeMasker(of).text(text);

describe('secrets in what a program prints', () => {
  it.each([
    ['as it is', `key=${key};`, 'key=‹SMS_KEY›;'],
    ['URL-encoded', `?k=${encodeURIComponent(key)}&x=1`, '?k=‹SMS_KEY›&x=1'],
    ['as a form sends it', `k=${encodeURIComponent(key).replaceAll('%20', '+')}`, 'k=‹SMS_KEY›'],
    ['JSON-escaped', JSON.stringify({ k: key }), '{"k":"‹SMS_KEY›"}'],
    ['with escaped slashes', '"p4ss\\/w+rd \\"of\\" the=price"', '"‹SMS_KEY›"'],
    ['in base64', `Basic ${Buffer.from(key).toString('base64')}`, 'Basic ‹SMS_KEY›'],
    ['in the URL’s base64', Buffer.from(key).toString('base64url'), '‹SMS_KEY›'],
    ['twice', `${key} ${key}`, '‹SMS_KEY› ‹SMS_KEY›'],
  ])('is taken out %s', (_form, text, shown) => expect(mask(text)).toBe(shown));

  it.each(['a', 'ab', 'abc', 'user:'])('is taken out of base64 of more than itself, behind %s', (before) => {
    const shown = mask(Buffer.from(`${before}${key}!!`).toString('base64'));
    expect(shown).toContain('‹SMS_KEY›');
    expect(shown.length).toBeLessThan(30);
  });

  it('is taken out line by line where it has several lines', () => {
    const pem = '-----BEGIN KEY-----\nMIIBVgIBADANBgkqhkiG9w0\nAQEFAASCAUAwggE8AgEAAkEA\n-----END KEY-----';
    expect(mask('  MIIBVgIBADANBgkqhkiG9w0\r\n', { PEM: pem })).toBe('  ‹PEM›\r\n');
    expect(mask(`[${pem}]`, { PEM: pem })).toBe('[‹PEM›]');
  });

  it('of other letters is taken out as bytes and as escapes', () => {
    expect(mask('schlüssel-ß "schl\\u00fcssel-\\u00df"', { K: 'schlüssel-ß' })).toBe('‹K› "‹K›"');
  });

  it('prefers the longer of two, of which one holds the other', () => {
    expect(mask('warden region', { A: 'region', B: 'warden' })).toBe('‹B› ‹A›');
  });

  it('leaves everything else as it is, bytes that are no text too', () => {
    const bytes = Buffer.from([0xff, 0xfe, 0, 10, 0xc3]);
    const masker = makeMasker(secrets);
    expect(Buffer.concat([masker.take(bytes), masker.rest()])).toEqual(bytes);
    const none = makeMasker({});
    expect(none.take(bytes)).toBe(bytes);
    expect([none.text('x'), none.rest().length]).toEqual(['x', 0]);
  });

  it('is never shown, wherever the stream is cut, and nothing else is changed', () => {
    const forms = formsOf(key);
    const piece = fc.oneof(fc.constantFrom(...forms, key.slice(0, 7), 'p4ss', '\n'), fc.string({ maxLength: 12 }));
    fc.assert(
      fc.property(fc.array(piece, { maxLength: 12 }), fc.array(fc.nat(40), { maxLength: 12 }), (pieces, cuts) => {
        const whole = Buffer.from(pieces.join('|'), 'utf8');
        const masker = makeMasker(secrets);
        const out: Buffer[] = [];
        let at = 0;
        for (const cut of cuts) {
          out.push(masker.take(whole.subarray(at, at + cut)));
          at = Math.min(whole.length, at + cut);
        }
        out.push(masker.take(whole.subarray(at)), masker.rest());
        const shown = Buffer.concat(out).toString('utf8');
        expect(shown).toBe(makeMasker(secrets).text(whole.toString('utf8')));
        // And byte by byte.
        const single = makeMasker(secrets);
        const slow = Buffer.concat([
          ...[...whole].map((byte) => single.take(Buffer.from([byte]))),
          single.rest(),
        ]).toString('utf8');
        expect(slow).toBe(shown);
        for (const form of [key, encodeURIComponent(key), Buffer.from(key).toString('base64')])
          expect(shown).not.toContain(form);
      }),
    );
  });

  it('is taken out whole where its end could begin another of its forms', () => {
    const masker = makeMasker({ KEY: 'hunter-two' });
    expect(
      [...'a hunter-two b'].map((one) => masker.take(Buffer.from(one)).toString()).join('') + masker.rest().toString(),
    ).toBe('a ‹KEY› b');
  });

  it('holds nothing back that can be no secret’s beginning', () => {
    const masker = makeMasker(secrets);
    expect(masker.take(Buffer.from('the price is low\n')).toString()).toBe('the price is low\n');
    expect(masker.take(Buffer.from('so p4')).toString()).toBe('so ');
    expect(masker.take(Buffer.from('tience')).toString()).toBe('p4tience');
  });
});

describe('a fingerprint', () => {
  const task = {
    run: ['x'],
    reads: null,
    makes: [],
    results: null,
    coverage: null,
    network: false,
    each: {},
    shard: null,
    resources: {},
    variables: { KEY: { from: 'variable.KEY', append: '!' }, LEVEL: { from: 'variable.LEVEL', append: '' } },
  } as unknown as Task;
  const inputs = (set: PinnedSet) =>
    fingerprintInputs(task, [], [], {
      project: { name: 'p' },
      folder: '',
      run: { commit: 'c', branch: 'main' },
      versions: {},
      base: 'b',
      set,
    });
  const pinned: PinnedSet = { KEY: { version: 1, hash: 'aa' }, LEVEL: { value: 'info' } };

  it('has of a secret its keyed hash alone, and not its version: the same value set again changes nothing', () => {
    expect(inputs(pinned).variables).toEqual({ KEY: { secret: 'aa', append: '!' }, LEVEL: 'info' });
    expect(fingerprint(inputs({ ...pinned, KEY: { version: 9, hash: 'aa' } }))).toBe(fingerprint(inputs(pinned)));
  });

  it('is another one for another value, secret or plain', () => {
    const all = [
      pinned,
      { ...pinned, KEY: { version: 1, hash: 'bb' } },
      { ...pinned, LEVEL: { value: 'debug' } },
      { ...pinned, KEY: { value: 'aa' } },
    ];
    expect(new Set(all.map((set) => fingerprint(inputs(set)))).size).toBe(all.length);
  });
});
