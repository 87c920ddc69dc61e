import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { destinationDone, momentMs } from '../../src/core/advance/destinations.js';
import { type LogSource, linesOf, longestLine } from '../../src/core/destinations/lines.js';
import { otlpRequest, rejectedOf } from '../../src/core/destinations/otlp.js';
import { syslogFrames } from '../../src/core/destinations/syslog.js';
import { issue } from '../../src/core/errors/errors.js';

const source: LogSource = {
  project: 'sailings',
  environment: 'production',
  host: 'sailings-production.localhost',
  part: 'api',
  instance: 'api.1',
  release: 'r57',
};

/** A text cut anywhere, as pieces that follow each other. */
const pieced = (text: string, cuts: readonly number[]) => {
  const bytes = Buffer.from(text);
  const places = [...new Set([0, ...cuts.map((one) => one % (bytes.length + 1)), bytes.length])].sort((a, b) => a - b);
  return places.slice(1).map((end, at) => {
    const begin = places[at] as number;
    const before = bytes.subarray(0, begin).filter((one) => one === 10).length;
    return { at, bytes: bytes.subarray(begin, end), firstLine: before + 1 };
  });
};

describe('lines of a log', () => {
  it('are the same however it was cut, each with its number', () => {
    fc.assert(
      fc.property(
        fc.array(
          fc.string({ unit: 'grapheme', maxLength: 20 }).map((one) => one.replace(/[\r\n]/g, '')),
          { maxLength: 20 },
        ),
        fc.array(fc.nat(), { maxLength: 10 }),
        (wanted, cuts) => {
          const text = wanted.map((one) => `${one}\n`).join('');
          const { lines, bytes } = linesOf(pieced(text, cuts), false);
          expect(lines.map((one) => one.text)).toEqual(wanted);
          expect(lines.map((one) => one.number)).toEqual(wanted.map((_, at) => at + 1));
          expect(bytes).toBe(Buffer.byteLength(text));
        },
      ),
    );
  });

  it('leave what has no end yet, unless nothing more can come', () => {
    const pieces = pieced('one\ntwo', [2]);
    expect(linesOf(pieces, false)).toMatchObject({ bytes: 4, lines: [{ text: 'one', number: 1 }] });
    expect(linesOf(pieces, true)).toMatchObject({ bytes: 7, lines: [{ text: 'one' }, { text: 'two', number: 2 }] });
  });

  it('are never longer than there is room for, and no letter is cut', () => {
    const { lines, bytes } = linesOf(pieced('é'.repeat(longestLine), [longestLine - 1, longestLine + 1]), true);
    expect(bytes).toBe(longestLine * 2);
    expect(lines.map((one) => one.text).join('')).toBe('é'.repeat(longestLine));
    for (const one of lines) expect(Buffer.byteLength(one.text)).toBeLessThanOrEqual(longestLine);
  });
});

/** Messages out of their frames, as a receiver takes them apart (RFC 6587, 3.4.1). */
function unframed(bytes: Buffer): string[] {
  const found: string[] = [];
  for (let at = 0; at < bytes.length; ) {
    const space = bytes.indexOf(32, at);
    const length = Number(bytes.subarray(at, space).toString());
    found.push(bytes.subarray(space + 1, space + 1 + length).toString());
    at = space + 1 + length;
  }
  return found;
}

describe('a syslog message', () => {
  it('says whose line it is, and when it came', () => {
    const [one] = unframed(Buffer.concat(syslogFrames(source, [{ at: 1_764_000_000_123, number: 7, text: 'a boat' }])));
    expect(one).toBe(
      '<134>1 2025-11-24T16:00:00.123Z sailings-production.localhost api api.1 - [log@32473 project="sailings" environment="production" part="api" release="r57" line="7"] a boat',
    );
  });

  it('comes whole through its frame, whatever its text is', () => {
    fc.assert(
      fc.property(fc.array(fc.string({ unit: 'binary', maxLength: 40 }), { minLength: 1, maxLength: 10 }), (texts) => {
        const frames = syslogFrames(
          source,
          texts.map((text, number) => ({ at: 0, number, text })),
        );
        const got = unframed(Buffer.concat(frames));
        expect(got.map((one) => one.slice(one.indexOf('] ') + 2))).toEqual(
          texts.map((text) => Buffer.from(text).toString()),
        );
      }),
    );
  });

  it('escapes what would end its structured data, and its head is printable', () => {
    const odd = { ...source, environment: 'a"b]c\\d', part: 'é p', host: '' };
    const [one] = unframed(Buffer.concat(syslogFrames(odd, [{ at: 0, number: 1, text: '' }])));
    expect(one).toContain('environment="a\\"b\\]c\\\\d"');
    expect(one).toMatch(/Z - \?\?p api\.1 /);
  });

  it('that would be too long is several, each of which says which', () => {
    const got = unframed(Buffer.concat(syslogFrames(source, [{ at: 0, number: 1, text: 'ü'.repeat(8_000) }])));
    expect(got.length).toBe(3);
    expect(got[1]).toContain('piece="2/3"');
    expect(got.map((one) => one.slice(one.indexOf('] ') + 2)).join('')).toBe('ü'.repeat(8_000));
    for (const one of got) expect(Buffer.byteLength(one)).toBeLessThan(8_192);
  });
});

describe('an OTLP request', () => {
  it('has a resource for each program, and 64-bit numbers as text', () => {
    const request = otlpRequest(
      [{ source, lines: [{ at: 1_764_000_000_123, number: 3, text: 'x' }] }],
      1_764_000_001_000,
    );
    expect(request.resourceLogs[0]?.resource.attributes).toContainEqual({
      key: 'service.name',
      value: { stringValue: 'api' },
    });
    expect(request.resourceLogs[0]?.scopeLogs[0]?.logRecords[0]).toEqual({
      timeUnixNano: '1764000000123000000',
      observedTimeUnixNano: '1764000001000000000',
      body: { stringValue: 'x' },
      attributes: [{ key: 'log.line', value: { intValue: '3' } }],
    });
  });

  it('understands a receiver that took a part of it', () => {
    expect(rejectedOf('{"partialSuccess":{"rejectedLogRecords":"5","errorMessage":"too old"}}')).toEqual({
      count: 5,
      why: 'too old',
    });
    for (const none of [
      '',
      '{}',
      'null',
      '[]',
      '{"partialSuccess":{}}',
      '{"partialSuccess":{"rejectedLogRecords":"-1"}}',
    ])
      expect(rejectedOf(none)).toBeNull();
  });
});

describe('a round', () => {
  const about = issue('channel_silent', { where: 'x' });
  it('moves on when it was taken, or can never be; else it waits longer each time', () => {
    expect(destinationDone(3, false, { done: true, rejected: 0, why: null })).toEqual({
      moves: true,
      leftOut: false,
      tries: 0,
      issue: null,
      againMs: momentMs,
    });
    expect(destinationDone(0, true, { done: true, rejected: 0, why: null }).againMs).toBe(0);
    expect(destinationDone(0, true, { done: false, final: true, issue: about })).toMatchObject({
      moves: true,
      leftOut: true,
    });
    let last = 0;
    for (let tries = 0; tries < 40; tries++) {
      const step = destinationDone(tries, true, { done: false, final: false, issue: about });
      expect(step).toMatchObject({ moves: false, tries: tries + 1 });
      expect(step.againMs).toBeGreaterThanOrEqual(last);
      last = step.againMs;
    }
    expect(last).toBe(600_000);
  });
});
