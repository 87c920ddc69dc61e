import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { caseless, countLines, findLines, type FoundLine } from '../../src/core/lines.js';

/** A text in pieces of these lengths, as they would be kept. */
function pieced(text: string, sizes: readonly number[]): { firstLine: number; bytes: Uint8Array }[] {
  const bytes = Buffer.from(text);
  const pieces = [];
  let firstLine = 0;
  for (let at = 0, turn = 0; at < bytes.length; turn++) {
    const piece = bytes.subarray(at, at + (sizes[turn % sizes.length] as number));
    pieces.push({ firstLine, bytes: piece });
    firstLine += countLines(piece);
    at += piece.length;
  }
  return pieces;
}

function search(text: string, sizes: readonly number[], wanted: string, limit = 1_000) {
  const { found, rest, next } = findLines({
    chunks: pieced(text, sizes),
    rest: null,
    wanted: wanted.toLowerCase(),
    from: 0,
    limit,
  });
  const last: FoundLine[] = rest?.text.toLowerCase().includes(wanted.toLowerCase()) && next === null ? [rest] : [];
  return { lines: [...found, ...last].map((one) => one.line), next };
}

describe('the lines of a log', () => {
  it('are found whatever the case, and wherever the log was cut', () => {
    const word = fc.constantFrom(
      'line 12',
      'LINE 12',
      'Line 120',
      'trip=7;',
      'Trip=7;',
      'é',
      'İ',
      'K',
      '42',
      ' ',
      '\n',
      '\n',
    );
    const wanted = fc.constantFrom('line 12', '12', '=7;', 'TRIP=7', 'é', 'k', '4', '0 ', 'nothing 99', 'İ');
    fc.assert(
      fc.property(
        fc.array(word, { maxLength: 40 }),
        // Cut between characters: what is cut in one is shown as two that are not known.
        fc.array(fc.integer({ min: 1, max: 12 }), { minLength: 1, maxLength: 5 }),
        wanted,
        (words, sizes, text) => {
          const whole = words.join('');
          const cuts = /[^\0-\x7f]/.test(whole) ? [1_000] : sizes;
          const naive = whole
            .split('\n')
            .flatMap((line, at) => (line.toLowerCase().includes(text.toLowerCase()) ? [at] : []));
          expect(search(whole, cuts, text).lines).toEqual(naive);
        },
      ),
      { numRuns: 2_000 },
    );
  });
  it('are given up to a limit, and where to go on', () => {
    const log = Array.from({ length: 50 }, (_, at) => `line ${at}`).join('\n');
    expect(search(log, [16], 'LINE', 3)).toEqual({ lines: [0, 1, 2], next: 3 });
    expect(search(log, [16], '4', 4)).toEqual({ lines: [4, 14, 24, 34], next: 40 });
  });
  it('are looked for in bytes by what has one form alone', () => {
    expect(caseless('line 12 of')).toBe(' 12 ');
    expect(caseless('trip=7; 2026-11-27')).toBe('=7; 2026-11-27');
    // One character alone is in nearly every piece.
    expect([caseless('timeout'), caseless('a1b'), caseless('é12é'), caseless('')]).toEqual(['', '', '12', '']);
  });
});
