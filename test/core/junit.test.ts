import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { parseJunit } from '../../src/core/results/junit.js';
import type { TestCase } from '../../src/core/results/model.js';

const samples = join(process.cwd(), 'test/samples');
const read = (name: string) => parseJunit(readFileSync(join(samples, `${name}.xml`), 'utf8'));

/** Four cases in each: one that passes, one that fails, one left out, one that throws. */
const expected: Record<string, { falls: Partial<TestCase>; throws: Partial<TestCase> }> = {
  jest: {
    falls: { group: 'price', name: 'price at the north lane falls & "turns" <soon>', place: 'test/price.test.js:4' },
    throws: { name: 'price at the north lane throws', place: 'test/price.test.js:6' },
  },
  vitest: {
    falls: { name: 'price > at the north lane > falls & "turns" <soon>', place: 'price.test.mjs:5' },
    throws: { place: 'price.test.mjs:7' },
  },
  jasmine: {
    falls: { group: 'price.at the north lane', name: 'falls & "turns" <soon>', place: 'test/price.spec.js:4' },
    throws: { place: 'test/price.spec.js:6' },
  },
  xunit: {
    falls: { group: 'price at the north lane', name: 'falls & "turns" <soon>', place: 'm/price.js:4' },
    throws: { place: 'm/price.js:6' },
  },
  // It escapes names twice; what it says is kept.
  node: { falls: { name: 'falls & &quot;turns&quot; <soon>' }, throws: { name: 'throws' } },
  pytest: {
    falls: { group: 'tests.test_price.TestNorthWing', name: 'test_falls[low & high]', place: 'tests/test_price.py:12' },
    throws: { group: 'tests.test_price', name: 'test_gauge', place: 'tests/test_price.py:5' },
  },
  surefire: {
    falls: { group: 'example.kohama.PriceTest', name: 'falls(int, String)[1]', place: 'PriceTest.java:21' },
    throws: { name: 'gauge', place: 'PriceTest.java:30' },
  },
};

describe('results as real runners write them', () => {
  it('are all here', () => {
    expect(
      readdirSync(samples)
        .filter((name) => name.endsWith('.xml'))
        .map((name) => name.replace('.xml', ''))
        .sort(),
    ).toEqual(Object.keys(expected).sort());
  });

  it.each(Object.keys(expected))('%s', (name) => {
    const { results, detail } = read(name);
    expect(detail).toBeNull();
    expect([results?.passed, results?.failed, results?.skipped]).toEqual([1, 2, 1]);
    expect(results?.cases.map((one) => one.state)).toEqual(['failed', 'failed', 'skipped', 'passed']);
    expect(results?.cases[0]).toMatchObject(expected[name]?.falls as object);
    expect(results?.cases[1]).toMatchObject(expected[name]?.throws as object);
    for (const one of results?.cases.slice(0, 2) ?? []) {
      expect(one.message).not.toBe('');
      // biome-ignore lint/suspicious/noControlCharactersInRegex: that is what is looked for
      expect(one.message).not.toMatch(/[\u0000-\u0008\u001b]/);
      expect(one.ms).not.toBeNull();
    }
  });
});

describe('results', () => {
  const one = (body: string) =>
    parseJunit(`<testsuite name="s"><testcase name="a" classname="g" time="1,234.5">${body}</testcase></testsuite>`);
  it.each([
    ['a message with colours', '<failure message="\u001b[31mred\u001b[0m"/>', 'red'],
    ['colours as references', '<failure message="&#27;[31mred&#x1B;[0m"/>', 'red'],
    ['characters that XML has no room for', '<failure message="a&#0;b\u0007c&#xFFFE;d"/>', 'abcd'],
    ['a text without a message', '<failure>why</failure>', 'why'],
    ['a message and a text', '<failure message="short">long</failure>', 'short\nlong'],
    ['a message that the text repeats', '<failure message="short">Error: short at x</failure>', 'Error: short at x'],
    ['an error', '<error message="broken"/>', 'broken'],
    ['sections of raw text', '<failure><![CDATA[<b> & more]]></failure>', '<b> & more'],
    ['two failures', '<failure message="one"/><failure message="two"/>', 'one'],
  ])('with %s', (_what, body, message) => {
    const { results } = one(body);
    expect(results?.cases[0]).toMatchObject({ state: 'failed', message, ms: 1_234_500 });
  });

  it.each([
    ['nothing', ''],
    ['text', 'ok 1 - works'],
    ['another document', '<html><body/></html>'],
    ['a cut one', '<testsuite><testcase name="a">'],
    ['crossed tags', '<testsuite><testcase></testsuite></testcase>'],
  ])('that are %s are refused with a reason', (_what, text) => {
    const { results, detail } = parseJunit(text);
    expect(results).toBeNull();
    expect(detail).not.toBe('');
  });

  it('of many cases keep the failing ones first', () => {
    const cases = Array.from(
      { length: 6_000 },
      (_, at) => `<testcase name="t${at}">${at === 5_999 ? '<failure/>' : ''}</testcase>`,
    ).join('');
    const { results } = parseJunit(`<testsuites><testsuite>${cases}</testsuite></testsuites>`);
    expect(results?.cases).toHaveLength(5_000);
    expect(results?.cases[0]?.name).toBe('t5999');
    expect(results?.passed).toBe(5_999);
  });

  it('and definitions never make a parser throw', () => {
    const whole = readdirSync(samples)
      .filter((name) => name.endsWith('.xml'))
      .map((name) => readFileSync(join(samples, name), 'utf8'));
    const broken = fc
      .tuple(fc.constantFrom(...whole), fc.nat(), fc.nat(40), fc.string())
      .map(([text, at, cut, put]) => text.slice(0, at % text.length) + put + text.slice((at % text.length) + cut));
    fc.assert(
      fc.property(fc.oneof(fc.string(), fc.string({ unit: 'binary' }), broken), (text) => {
        const { results, detail } = parseJunit(text);
        expect((results === null) !== (detail === null)).toBe(true);
        const parsed = parseDefinition(text);
        expect(parsed.definition === null || parsed.issues.every((issue) => issue.severity === 'warning')).toBe(true);
      }),
      { numRuns: 400 },
    );
  });
});
