import { edgeAddress } from '../../src/core/addresses.js';
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import {
  type AddressFacts,
  addressAct,
  addressDone,
  addressIdle,
  answered,
  mostOrders,
  proofMs,
  renewIn,
} from '../../src/core/advance/addresses.js';
import type { Outcome } from '../../src/core/advance/resources.js';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { isServiceHost, checkedLabel, checkedName, proofRecord, shownRecords } from '../../src/core/domains/names.js';
import { issue } from '../../src/core/errors/errors.js';
import { openSealed, publicBytes, readerKeys, readPublic, sealFor } from '../../src/wire/rooms/sealed.js';

const away: Outcome = { done: false, again: true, issue: issue('name_server_away', { record: 'x', detail: 'y' }) };
const refused: Outcome = { done: false, again: false, issue: issue('address_taken', { name: 'x', environment: 'y' }) };
const done: Outcome = { done: true };
const day = 24 * 3_600_000;
const facts = (change: Partial<AddressFacts> = {}): AddressFacts => ({
  state: 'wanted',
  kind: 'own',
  tries: 0,
  sinceMs: 0,
  authority: true,
  renewInMs: null,
  over: true,
  ...change,
});

describe('an address', () => {
  it('is proven, certified, and renewed when a third of its time is left', () => {
    expect(addressAct(facts())).toBe('prove');
    expect(addressDone(facts(), 'prove', done)).toEqual({ state: 'proven', issue: null, tries: 0, againMs: 0 });
    expect(addressAct(facts({ state: 'proven' }))).toBe('certify');
    const [from, until] = [0, 90 * day];
    expect(renewIn(from, until, 10 * day)).toBe(50 * day);
    const good = facts({ state: 'certified', over: false, renewInMs: 50 * day });
    expect(addressAct(good)).toBeNull();
    expect(addressIdle(good, 'a.example', null)).toMatchObject({ state: 'certified', againMs: 50 * day });
    expect(addressAct(facts({ state: 'certified', over: false, renewInMs: -1 }))).toBe('certify');
  });
  it('waits for its proof for a week, and says why in the meantime', () => {
    const step = addressDone(facts({ tries: 3 }), 'prove', away);
    expect(step).toMatchObject({ state: 'wanted', tries: 4, issue: { code: 'name_server_away' } });
    expect(addressDone(facts({ sinceMs: proofMs }), 'prove', away)).toMatchObject({ state: 'failed', againMs: null });
    expect(addressDone(facts(), 'prove', refused).state).toBe('failed');
  });
  it('keeps a certificate that is good while its renewal fails, and stays answered without one', () => {
    const renewing = facts({ state: 'certified', over: false, renewInMs: 0 });
    expect(addressDone(renewing, 'certify', away)).toMatchObject({
      state: 'certified',
      issue: { code: expect.any(String) },
    });
    expect(addressDone({ ...renewing, over: true }, 'certify', away).state).toBe('proven');
    expect(addressIdle(facts({ state: 'certified', authority: false, renewInMs: 0 }), 'a.example', null)).toMatchObject(
      {
        state: 'proven',
        issue: { code: 'certificate_over' },
      },
    );
    let [state, tries] = ['proven' as AddressFacts['state'], 0];
    while (state === 'proven') ({ state, tries } = addressDone(facts({ state, tries }), 'certify', away));
    expect([state, tries]).toEqual(['failed', mostOrders]);
  });
  it('that the service has given is never proven, and certified only where somebody does that', () => {
    expect(addressAct(facts({ kind: 'given', state: 'proven', authority: false }))).toBeNull();
    expect(addressAct(facts({ kind: 'given', state: 'proven' }))).toBe('certify');
  });

  const anyFacts = fc.record({
    state: fc.constantFrom('wanted', 'proven', 'certified', 'failed'),
    kind: fc.constantFrom('own', 'given'),
    tries: fc.integer({ min: 0, max: 40 }),
    sinceMs: fc.integer({ min: 0, max: 2 * proofMs }),
    authority: fc.boolean(),
    renewInMs: fc.option(fc.integer({ min: -day, max: 90 * day })),
    over: fc.boolean(),
  }) as fc.Arbitrary<AddressFacts>;
  const outcomes = fc.constantFrom(done, away, refused);
  it('never goes on for ever at once, is never stuck without a word, and is answered only when proven', () => {
    fc.assert(
      fc.property(anyFacts, outcomes, (one, outcome) => {
        const act = addressAct(one);
        if (act === null) {
          const idle = addressIdle(one, 'a.example', null);
          return idle.state === one.state || (one.state === 'certified' && idle.state === 'proven');
        }
        const next = addressDone(one, act, outcome);
        if (!outcome.done && (next.issue === null || next.tries === 0)) return false;
        // Whoever fails waits; whoever waits for nothing has an end.
        if (!outcome.done && next.againMs === 0) return false;
        if (next.againMs === null && next.state === 'wanted') return false;
        // Proven by nothing but a proof.
        return answered(one.state) || !answered(next.state) || (act === 'prove' && outcome.done);
      }),
    );
  });
});

describe('a name', () => {
  it('is kept in the letters that DNS knows', () => {
    expect(checkedName(' Departures.Kohama.Example. ', [])).toBe('departures.kohama.example');
    expect(checkedName('bücher.example', [])).toBe('xn--bcher-kva.example');
    expect(proofRecord('a.example')).toBe('_tsunagi.a.example');
  });
  it.each([
    ['*.kohama.example', '`*`'],
    ['kohama', 'one label'],
    ['10.0.0.1', 'number of a machine'],
    ['0x7f000001', 'number of a machine'],
    ['[::1]', 'not the name'],
    ['a.example:80', 'not the name'],
    ['https://a.example', 'not the name'],
    ['a..example', 'not the name'],
    ['-a.example', 'not the name'],
    [`${'a'.repeat(64)}.example`, 'not the name'],
    ['pr-1.review.kohama.test', 'given by the service'],
    ['console.localhost', 'lead nowhere'],
    ['a.onion', 'lead nowhere'],
    ['a b.example', 'not the name'],
    ['a.example\u0000', 'not the name'],
    ['', 'not the name'],
  ])('%j is refused', (text, why) => {
    expect(() => checkedName(text, ['review.kohama.test'])).toThrow(why);
  });
  it('is never anything but a host, whatever is written', () => {
    fc.assert(
      fc.property(fc.oneof(fc.string({ unit: 'binary', maxLength: 80 }), fc.domain(), fc.ipV6()), (text) => {
        let name: string;
        try {
          name = checkedName(text, []);
        } catch (error) {
          return (error as { issue?: { code: string } }).issue?.code === 'address_refused';
        }
        return new URL(`https://${name}/`).hostname === name && /^[a-z0-9.-]{3,253}$/.test(name);
      }),
    );
  });
  it('of the service is one label', () => {
    expect(checkedLabel(' Sailings-Next ')).toBe('sailings-next');
    for (const text of ['a.b', '-a', 'xn--a', '', 'a'.repeat(64)])
      expect(() => checkedLabel(text)).toThrow('one label');
  });
  it('is compared with what was found in words that fit a line', () => {
    expect(shownRecords([])).toBe('no such record');
    expect(shownRecords(['a'.repeat(200), 'b', 'c', 'd'])).toMatch(/^“a{79}…”, “b”, “c”$/);
  });
  it('stands in the definition of one environment that stays', () => {
    const check = (environments: string) =>
      parseDefinition(
        `tsunagi: 1\nrelease:\n  parts:\n    web: { kind: site, files: [web/], root: web }\nenvironments:\n${environments}`,
      );
    const good = check('  staging: { branch: main, addresses: [Departures.kohama.example] }\n');
    expect(good.issues).toEqual([]);
    expect(good.definition?.environments.staging?.addresses).toEqual(['departures.kohama.example']);
    const twice = check(
      '  staging: { branch: main, addresses: [a.example] }\n  production: { after: staging, addresses: [a.example] }\n',
    );
    expect(twice.issues.map((one) => [one.code, one.line])).toEqual([['address_twice', 7]]);
    expect(check('  review: { for: pull requests, addresses: [a.example] }\n').issues.map((one) => one.code)).toEqual([
      'key_not_for',
    ]);
    expect(check('  staging: { branch: main, addresses: ["*.example"] }\n').definition).toBeNull();
  });
});

describe('a text for one reader', () => {
  it('is opened by that reader alone, and not when it was changed', () => {
    const [own, other] = [readerKeys(), readerKeys()];
    const sealed = sealFor(readPublic(publicBytes(own.publicKey)), 'a private key');
    expect(openSealed(own.privateKey, sealed)).toBe('a private key');
    expect(sealed.includes('private')).toBe(false);
    expect(() => openSealed(other.privateKey, sealed)).toThrow();
    for (const at of [0, 33, 45, sealed.length - 1]) {
      const changed = Buffer.from(sealed);
      changed[at] = (changed[at] as number) ^ 1;
      expect(() => openSealed(own.privateKey, changed)).toThrow();
    }
    expect(() => readPublic(Buffer.from('x'))).toThrow();
  });
});

describe('the address at which work reaches the edges', () => {
  it.each([
    ['is the one that the operator has named', ['198.51.100.0/24', '198.51.100.7'], ['10.0.0.5'], '198.51.100.7'],
    ['is that from which an edge asks', [], ['10.0.0.5', '10.0.0.6'], '10.0.0.5'],
    ['is written without what maps IPv4 into IPv6', [], ['::ffff:10.0.0.5'], '10.0.0.5'],
    ['is this machine where the edge is on it', [], ['::1', '127.0.0.1'], '127.0.0.1'],
    ['is this machine where no edge has asked', [], [null], '127.0.0.1'],
    ['is no range', ['198.51.100.0/24'], ['2001:db8::5'], '2001:db8::5'],
  ] as [string, string[], (string | null)[], string][])('%s', (_what, named, seen, expected) =>
    expect(edgeAddress(named, seen)).toBe(expected),
  );
});

describe('names of the service itself', () => {
  const own = ['console.kohama.test', 'live.kohama.test', 'review.kohama.test', 'untrusted.kohama.test'];
  it.each([
    ['console.kohama.test', true],
    ['review.kohama.test', true],
    ['untrusted.kohama.test', true],
    // A parent of one of them: it could set cookies for all below.
    ['kohama.test', true],
    ['test', true],
    ['pier.review.kohama.test', false],
    ['unreview.kohama.test', false],
    ['pier.example', false],
  ])('%s: %s', (host, expected) => expect(isServiceHost(host, own)).toBe(expected));
});
