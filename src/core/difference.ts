/** The unified difference of two texts of a file, as `diff -u` writes it. */
import { createTwoFilesPatch } from 'diff';

/** Milliseconds after which it is given up: texts that have nothing in common take long. */
const patience = 1_000;

/** Empty where there is none; `before` null: there was no file. */
export function unifiedDifference(path: string, before: string | null, after: string): string {
  if (before === after) return '';
  const names = [before === null ? '/dev/null' : `a/${path}`, `b/${path}`] as const;
  const patch = createTwoFilesPatch(...names, before ?? '', after, undefined, undefined, {
    context: 3,
    timeout: patience,
  });
  return patch ? patch.slice(patch.indexOf('--- ')) : replaced(names, before ?? '', after);
}

/** All of one goes, all of the other comes. */
function replaced([from, to]: readonly [string, string], before: string, after: string): string {
  const lines = (text: string): string[] => (text === '' ? [] : text.replace(/\n$/, '').split('\n'));
  const [old, now] = [lines(before), lines(after)];
  const body = [...old.map((line) => `-${line}`), ...now.map((line) => `+${line}`)];
  return `--- ${from}\n+++ ${to}\n@@ -${old.length ? 1 : 0},${old.length} +1,${now.length} @@\n${body.join('\n')}\n`;
}
