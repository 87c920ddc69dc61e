/** How long readers of foreign bytes are tried: a second each in `npm test`, longer by `npm run fuzz`. A failure prints its seed. */
import fc from 'fast-check';

const ms = Number(process.env.TSUNAGI_FUZZ ?? 1_000);

/** Options of `fc.assert`; TSUNAGI_SEED repeats a run. */
export const budget = {
  numRuns: 1_000_000,
  interruptAfterTimeLimit: ms,
  ...(process.env.TSUNAGI_SEED ? { seed: Number(process.env.TSUNAGI_SEED) } : {}),
};

/** Milliseconds after which Jest gives a property up. */
export const patience = ms + 60_000;

/** Bytes that were changed, cut or moved at a few places. */
export const mutated = (source: Buffer): fc.Arbitrary<Buffer> =>
  fc
    .array(
      fc.oneof(
        fc.record({ what: fc.constant('set' as const), at: fc.nat(source.length), to: fc.nat(255) }),
        fc.record({ what: fc.constant('cut' as const), at: fc.nat(source.length), to: fc.nat(600) }),
        fc.record({ what: fc.constant('copy' as const), at: fc.nat(source.length), to: fc.nat(source.length) }),
        fc.record({ what: fc.constant('end' as const), at: fc.nat(source.length), to: fc.constant(0) }),
      ),
      { minLength: 1, maxLength: 6 },
    )
    .map((changes) =>
      changes.reduce((bytes: Buffer, { what, at, to }) => {
        const place = Math.min(at, bytes.length);
        if (what === 'set') {
          const copy = Buffer.from(bytes);
          if (place < copy.length) copy[place] = to;
          return copy;
        }
        if (what === 'cut') return Buffer.concat([bytes.subarray(0, place), bytes.subarray(place + to)]);
        if (what === 'copy')
          return Buffer.concat([bytes.subarray(0, place), bytes.subarray(Math.min(to, bytes.length))]);
        return bytes.subarray(0, place);
      }, source),
    );

/** Some bytes in pieces of any size, as they may come. */
export const pieces = (bytes: Buffer, sizes: readonly number[]): Buffer[] => {
  const all: Buffer[] = [];
  for (let at = 0, n = 0; at < bytes.length; n++) {
    const size = Math.max(1, sizes[n % Math.max(1, sizes.length)] ?? 1);
    all.push(bytes.subarray(at, at + size));
    at += size;
  }
  return all;
};

/** What was begun and has not ended yet; a property that is interrupted leaves its last one behind. */
const open = new Set<Promise<unknown>>();

/** Rejects what neither ends nor fails: for whoever waits, that is the worst answer. */
export function ends<T>(work: Promise<T>, ms = 10_000): Promise<T> {
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<never>((_resolve, reject) => {
    timer = setTimeout(() => reject(new Error('it neither ended nor failed')), ms);
  });
  const one = Promise.race([work, late]).finally(() => clearTimeout(timer));
  const settled = one.then(
    () => null,
    (error: Error) => (/neither ended/.test(error.message) ? error : null),
  );
  open.add(settled);
  void settled.then((error) => error ?? open.delete(settled));
  return one;
}

/** Waits for what is left; throws where something never ended. */
export async function allEnd(): Promise<void> {
  for (const error of await Promise.all(open)) if (error) throw error;
}
