/** Names of people: nobody is called like the service itself, or like another person to the eye. */

/** What the record calls itself and those whom it does not know. */
const reserved: ReadonlySet<string> = new Set([
  'agent',
  'anyone',
  'edge',
  'engine',
  'nobody',
  'service',
  'stranger',
  'system',
  'this machine',
  'tsunagi',
  'unknown',
  'untrusted',
]);

export const isReservedPerson = (name: string): boolean => reserved.has(lookOf(name));

/** Letters of other scripts that look like Latin ones (a part of the confusables of UTS #39). */
const lookalikes: Readonly<Record<string, string>> = {
  а: 'a',
  в: 'b',
  с: 'c',
  ԁ: 'd',
  е: 'e',
  ё: 'e',
  һ: 'h',
  і: 'i',
  ї: 'i',
  ј: 'j',
  к: 'k',
  ӏ: 'l',
  м: 'm',
  н: 'h',
  о: 'o',
  р: 'p',
  ԛ: 'q',
  г: 'r',
  ѕ: 's',
  т: 't',
  у: 'y',
  ѵ: 'v',
  ԝ: 'w',
  х: 'x',
  α: 'a',
  β: 'b',
  ε: 'e',
  η: 'n',
  ι: 'i',
  κ: 'k',
  ν: 'v',
  ο: 'o',
  ρ: 'p',
  τ: 't',
  υ: 'u',
  χ: 'x',
  ı: 'i',
  0: 'o',
  1: 'l',
};

/** What a name looks like: names with the same look are taken for each other. For comparison alone. */
export const lookOf = (name: string): string =>
  [...name.normalize('NFKD').toLowerCase()]
    .filter((one) => !/\p{M}/u.test(one))
    .map((one) => lookalikes[one] ?? one)
    .join('')
    .replace(/[\s._-]+/g, ' ')
    .trim();
