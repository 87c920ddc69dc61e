/** Signed statements: what is opened, and what is not, with one bit changed anywhere. */
import { describe, expect, it } from '@jest/globals';
import { createPublicKey, generateKeyPairSync, sign } from 'node:crypto';
import fc from 'fast-check';
import { type Envelope, keyIdOf, open, seal, type Statement, statementType } from '../../src/core/release/envelope.js';

const [first, second, other] = [0, 1, 2].map(() => generateKeyPairSync('ed25519')) as [
  ReturnType<typeof generateKeyPairSync>,
  ReturnType<typeof generateKeyPairSync>,
  ReturnType<typeof generateKeyPairSync>,
];
const publicOf = (pair: typeof first) => createPublicKey(pair.privateKey as never);
const statement: Statement = {
  _type: 'https://in-toto.io/Statement/v1',
  subject: [{ name: 'sailings r57 api', digest: { sha256: 'ab'.repeat(32) } }],
  predicateType: 'https://slsa.dev/provenance/v1',
  predicate: { note: 'ü, 船, "quoted"' },
};
const keysOf = (...pairs: (typeof first)[]) => pairs.map((pair) => pair.privateKey as never);

describe('an envelope', () => {
  it('is opened by each of the keys that have signed it, also where another one has signed it, too', () => {
    const sealed = seal(statement, keysOf(first, second));
    expect(open(sealed, [publicOf(first)])).toEqual({ statement, keyid: keyIdOf(publicOf(first)) });
    expect(open(JSON.parse(JSON.stringify(sealed)), [publicOf(second)])).toMatchObject({ statement });
    expect(keyIdOf(first.privateKey as never)).toBe(keyIdOf(publicOf(first)));
  });

  it('is as its protocol says, so that others open it', () => {
    const { payload, payloadType, signatures } = seal(statement, keysOf(first));
    expect([payloadType, Buffer.from(payload, 'base64').toString()]).toEqual([
      statementType,
      JSON.stringify(statement),
    ]);
    const length = Buffer.from(payload, 'base64').length;
    const signed = Buffer.from(
      `DSSEv1 ${statementType.length} ${statementType} ${length} ${JSON.stringify(statement)}`,
    );
    expect(signatures[0]?.sig).toBe(sign(null, signed, first.privateKey as never).toString('base64'));
  });

  it('is not opened by another key, nor by one that it names for itself', () => {
    expect(open(seal(statement, keysOf(first)), [publicOf(other)])).toEqual({ why: 'key' });
    const forged = seal(statement, keysOf(other));
    const named = forged.signatures.map((one) => ({ ...one, keyid: keyIdOf(publicOf(first)) }));
    expect(open({ ...forged, signatures: named }, [publicOf(first)])).toEqual({ why: 'signature' });
    expect(open({ ...forged, signatures: [] }, [publicOf(first)])).toEqual({ why: 'key' });
  });

  it('is not opened with one bit changed', () => {
    const sealed = seal(statement, keysOf(first));
    const bytes = Buffer.from(sealed.payload, 'base64');
    const sig = Buffer.from(sealed.signatures[0]?.sig ?? '', 'base64');
    const turned = (of: Buffer, bit: number): string => {
      const copy = Buffer.from(of);
      copy[bit >> 3] = (copy[bit >> 3] as number) ^ (1 << (bit & 7));
      return copy.toString('base64');
    };
    fc.assert(
      fc.property(fc.nat(bytes.length * 8 - 1), (bit) => {
        expect(open({ ...sealed, payload: turned(bytes, bit) }, [publicOf(first)])).toEqual({ why: 'signature' });
      }),
    );
    fc.assert(
      fc.property(fc.nat(sig.length * 8 - 1), (bit) => {
        const signatures = [{ keyid: keyIdOf(publicOf(first)), sig: turned(sig, bit) }];
        expect(open({ ...sealed, signatures }, [publicOf(first)])).toEqual({ why: 'signature' });
      }),
    );
  });

  it('of anything else is refused, and nothing is thrown', () => {
    const key = publicOf(first);
    const sealed = (payload: string): Envelope => {
      const bytes = Buffer.from(payload);
      const head = Buffer.from(`DSSEv1 ${statementType.length} ${statementType} ${bytes.length} `);
      const sig = sign(null, Buffer.concat([head, bytes]), first.privateKey as never).toString('base64');
      return {
        payloadType: statementType,
        payload: bytes.toString('base64'),
        signatures: [{ keyid: keyIdOf(key), sig }],
      };
    };
    // Signed well, and no statement.
    for (const text of ['', '{', 'null', '[]', '{}', JSON.stringify({ ...statement, subject: [] })])
      expect(open(sealed(text), [key])).toEqual({ why: 'form' });
    expect(open({ ...sealed('{}'), payloadType: 'text/plain' }, [key])).toEqual({ why: 'form' });
    expect(open({ ...sealed('{}'), payload: '???' }, [key])).toEqual({ why: 'form' });
    fc.assert(fc.property(fc.jsonValue(), (value) => 'why' in open(value, [key])));
    fc.assert(
      fc.property(
        fc.array(fc.jsonValue(), { maxLength: 5 }),
        (signatures) => 'why' in open({ ...sealed('{}'), signatures }, [key]),
      ),
    );
  });
});
