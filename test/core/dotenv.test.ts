import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { parseDotenv } from '../../src/core/variables/dotenv';

const values = (text: string) => parseDotenv(text).values;
const codes = (text: string) => parseDotenv(text).issues.map((one) => [one.line, one.severity, one.code]);

describe('a dotenv text', () => {
  it.each([
    ['plain', 'A=1\nB = two words \n', { A: '1', B: 'two words' }],
    ['comments', '# one\nA=1 # two\nB=a#b\n\n', { A: '1', B: 'a#b' }],
    ['export', 'export A=1\nexport\tB=2\n', { A: '1', B: '2' }],
    ['empty values', 'A=\nB=\'\'\nC=""\n', { A: '', B: '', C: '' }],
    ['single quotes', 'A=\'a \\n # "b" $C\'\n', { A: 'a \\n # "b" $C' }],
    ['double quotes', 'A="a\\nb \\"c\\" \\\\ \\$D # no comment" # one\n', { A: 'a\nb "c" \\ $D # no comment' }],
    ['several lines', 'A="one\ntwo\n"\nB=\'x\n\ny\'\nC=3', { A: 'one\ntwo\n', B: 'x\n\ny', C: '3' }],
    ['BOM and CRLF', '\uFEFFA=1\r\nB="x\r\ny"\r\nC=3\r\n', { A: '1', B: 'x\ny', C: '3' }],
    [
      'equals signs and addresses',
      'URL=postgres://u:p@db:5432/x?a=b&c=d\nK=YWJj==\n',
      { URL: 'postgres://u:p@db:5432/x?a=b&c=d', K: 'YWJj==' },
    ],
    ['names of the prototype', '__proto__=1\nconstructor=2\n', JSON.parse('{"__proto__":"1","constructor":"2"}')],
  ])('with %s', (_what, text, expected) => {
    expect(parseDotenv(text)).toEqual({ values: expected, issues: [] });
  });

  it('says what is wrong with its line, and reads the rest', () => {
    const text = 'A=1\njust words\n1B=2\nC="x" y\nA=3\nD=$A/b\nE="\n\n"\nF.G=1\n';
    expect(codes(text)).toEqual([
      [2, 'error', 'dotenv_line'],
      [3, 'error', 'variable_name'],
      [4, 'error', 'dotenv_rest'],
      [5, 'warning', 'dotenv_repeated'],
      [6, 'warning', 'dotenv_expansion'],
      [10, 'error', 'variable_name'],
    ]);
    expect(values(text)).toEqual({ A: '3', C: 'x', D: '$A/b', E: '\n\n' });
    expect(parseDotenv(text).issues[3]?.data).toEqual({ name: 'A', line: 1 });
  });

  it('says where a quote begins that nobody closes', () => {
    expect(codes('A=1\nB="x\nC=2\n')).toEqual([[2, 'error', 'dotenv_quote']]);
  });

  it('shows no value in what it says', () => {
    const { issues } = parseDotenv('hunter2secretsecret is my word\nA="hunter2secret\n');
    expect(JSON.stringify(issues)).not.toContain('hunter2secret');
  });

  it('never throws, and what is written quoted is read back', () => {
    fc.assert(fc.property(fc.string({ unit: 'binary' }), (text) => void parseDotenv(text)));
    fc.assert(
      fc.property(fc.string(), (value) => {
        const plain = value.replace(/\r\n?/g, '\n');
        fc.pre(!plain.includes('\0'));
        const quoted = `A="${plain.replace(/[\\"$]/g, '\\$&')}"\nB=1\n`;
        expect(values(quoted)).toEqual({ A: plain, B: '1' });
      }),
    );
  });
});
