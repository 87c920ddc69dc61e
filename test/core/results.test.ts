import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { coverageOf, linesText, parseLcov } from '../../src/core/results/coverage.js';
import { readResults } from '../../src/core/results/read.js';

const sample = (name: string): string => readFileSync(join('test/samples', name), 'utf8');
const short = (text: string) => {
  const { results, detail } = readResults(text);
  return detail ?? results?.cases.map((one) => [one.state, one.group, one.name].join(' | '));
};

describe('a file of results', () => {
  it('is told from its content', () => {
    expect(readResults(sample('jest.xml')).results?.cases.length).toBeGreaterThan(0);
    expect(readResults(`\uFEFF${sample('node.tap')}`).results?.passed).toBe(2);
    expect(short('{"tests": []}')).toBe('it is neither JUnit XML nor TAP');
    expect(short('')).toBe('it is neither JUnit XML nor TAP');
    expect(short('# a comment\n\n1..1\nok\n')).toEqual(['passed |  | unnamed']);
  });

  it('of TAP 13 with subtests gives each test once, under the names of those around it', () => {
    const { results } = readResults(sample('node.tap'));
    expect(results).toMatchObject({ passed: 2, failed: 1, skipped: 2 });
    expect(results?.cases.map((one) => [one.state, one.group, one.name])).toEqual([
      ['failed', 'a price', 'is nothing for small children'],
      ['skipped', '', 'later'],
      ['skipped', '', 'some day'],
      ['passed', 'a price', 'is full for adults'],
      ['passed', 'a price › of a group # with a mark', 'is full'],
    ]);
    const [failed] = results?.cases ?? [];
    expect(failed).toMatchObject({ place: 'a.test.js:6', ms: expect.any(Number) });
    expect(failed?.message).toMatch(/^0 == 100\nTestContext/);
    expect(results?.cases[1]?.message).toBe('no data yet');
  });

  it('of TAP 14 says what was planned and did not run, and where a test failed', () => {
    expect(short(sample('tap14.tap'))).toEqual([
      'failed | parser | dates',
      'failed |  | plan',
      'passed | parser | numbers',
      'passed |  | printer # 1',
    ]);
    const { results } = readResults(sample('tap14.tap'));
    expect(results?.cases[0]).toMatchObject({ message: 'expected a date', place: 'test/dates.js:12' });
    expect(results?.cases[1]?.message).toBe('3 tests were planned, 2 ran.');
  });

  it('of TAP without a version, ended early, is read as far as it goes', () => {
    expect(short(sample('perl.tap'))).toEqual([
      'failed |  | the sum is right',
      'failed |  | Bail out!',
      'skipped |  | unnamed',
      'skipped |  | rounding',
      'passed |  | use_ok',
      'passed |  | unnamed',
    ]);
    expect(short('1..0 # skip nothing to test here\n')).toEqual([]);
    expect(short('TAP version 13\n')).toBe('no test is in it');
  });

  it('never throws, whatever stands in it', () => {
    const line = fc.oneof(
      fc.constantFrom(
        'ok',
        'not ok 1 - a',
        '    ok 1',
        '1..3',
        '  ---',
        '  ...',
        '  a: [',
        'Bail out!',
        '# Subtest: x',
      ),
      fc.string(),
    );
    fc.assert(
      fc.property(fc.array(line, { maxLength: 30 }), (lines) => {
        const { results } = readResults(`TAP version 13\n${lines.join('\n')}`);
        if (results) expect(results.passed + results.failed + results.skipped).toBe(results.cases.length);
      }),
    );
  });
});

describe('coverage', () => {
  const lcov = [
    'TN:',
    'SF:/project/src/a.js',
    'DA:1,1',
    'DA:2,0',
    'DA:3,4,checksum',
    'LF:3',
    'end_of_record',
    'SF:src\\b.js',
    'DA:7,0',
    'end_of_record',
    'SF:src/a.js',
    'DA:2,1',
    'DA:9,0',
    'end_of_record',
    'SF:/usr/lib/x.js',
    'DA:1,1',
    'end_of_record',
    'SF:node_modules/y.js',
    'DA:1,1',
    'end_of_record',
    'SF:../z.js',
    'DA:1,1',
    'end_of_record',
  ].join('\n');

  it('is told by lines; a file that comes twice is one', () => {
    expect(parseLcov(lcov).coverage).toEqual({
      found: 5,
      hit: 3,
      files: [
        { path: 'src/a.js', hit: '1-3', missed: '9' },
        { path: 'src/b.js', hit: '', missed: '7' },
      ],
    });
    expect(parseLcov('{}').detail).toBe('no file is in it (`SF:`)');
    expect(parseLcov('SF:a.js\nDA:x,1\nDA:-1,1\nDA:1.5,1\nDA:99999999999,1\nend_of_record\n').coverage).toMatchObject({
      found: 0,
    });
  });

  it('of a change is that of its lines alone', () => {
    const { coverage } = parseLcov(lcov);
    const changed = new Map([
      ['src/a.js', '3-12'],
      ['src/c.js', '1'],
      ['readme.md', '1-100'],
    ]);
    expect(coverage && coverageOf(coverage, changed)).toEqual({
      found: 2,
      hit: 1,
      files: [{ path: 'src/a.js', hit: '3', missed: '9' }],
    });
  });

  it('counts as one would by hand, for any lines', () => {
    const lines = fc.uniqueArray(fc.integer({ min: 1, max: 60 }));
    fc.assert(
      fc.property(lines, lines, lines, (a, b, touched) => {
        const [hit, missed] = [a, b.filter((line) => !a.includes(line))];
        const file = { path: 'f', hit: linesText(hit), missed: linesText(missed) };
        const of = coverageOf({ files: [file] }, new Map([['f', linesText(touched)]]));
        const both = hit.filter((line) => touched.includes(line));
        expect(of.hit).toBe(both.length);
        expect(of.found).toBe(both.length + missed.filter((line) => touched.includes(line)).length);
        expect(of.files[0]?.hit ?? '').toBe(linesText(both));
      }),
    );
  });
});
