/** Variables that sources ask their environment for. */
import { issue } from '../errors/errors.js';
import { parseDotenv } from '../variables/dotenv.js';
import { secretName } from '../variables/change.js';
import { scalar } from './look.js';
import type { Tree, VariableDraft } from './model.js';

/** What the service or the system gives by itself. */
const given =
  /^(PATH|HOME|TMPDIR|PORT|NODE_OPTIONS|NODE_ENV|CI|LANG|LC_.*|TZ|USER|SHELL|PWD|TERM|HOSTNAME|DEBUG|NO_COLOR|FORCE_COLOR|PYTHON.*|JAVA_HOME|LD_.*|TSUNAGI_.*|npm_.*)$/;
const examples = ['.env.example', '.env.sample', '.env.template', 'env.example'];
export const variableTexts = (path: string): boolean => examples.includes(path.split('/').at(-1) ?? '');
const most = 40;

/**
 * `pattern` finds the name (the first group that matches of 1, 2) and the default of a variable (4 as text, 5 as number). One with
 * a default somewhere needs nobody to set it; one without is required.
 */
export function environmentVariables(
  tree: Tree,
  sources: readonly (readonly [string, string])[],
  pattern: RegExp,
): VariableDraft[] {
  const found = new Map<string, { path: string; value: string | null }>();
  for (const [path, text] of sources)
    for (const one of text.matchAll(pattern)) {
      const name = (one[1] ?? one[2]) as string;
      const value = one[4] ?? one[5] ?? null;
      const before = found.get(name);
      if (!given.test(name) && (!before || (before.value === null && value !== null)))
        found.set(name, { path: before?.path ?? path, value: before?.value ?? value });
    }
  const example = examples.find((path) => tree.texts.has(path));
  const shown = example ? parseDotenv(tree.texts.get(example) ?? '').values : {};
  for (const name of Object.keys(shown))
    if (!given.test(name) && !found.has(name)) found.set(name, { path: example as string, value: null });
  return [...found]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .slice(0, most)
    .map(([name, { path, value }]) => {
      const secret = secretName(name);
      const fallback = value ?? (secret ? null : shown[name] || null);
      const why =
        value === null
          ? path === example
            ? `${path} names it`
            : `${path} asks for it`
          : `${path} asks for it and has this default`;
      return {
        name,
        text: secret
          ? `{ secret: true }`
          : fallback === null
            ? '{ about: to be set for each environment }'
            : `{ default: ${scalar(fallback)} }`,
        why: secret
          ? `${path} ${path === example ? 'names' : 'asks for'} it; its name speaks of a secret`
          : value === null && fallback !== null
            ? `${example} has this value`
            : why,
      };
    });
}

/** A note where a file of real values is in the repository. */
export const dotenvNotes = (tree: Tree) =>
  tree.paths.includes('.env') ? [issue('recognise_dotenv', { file: '.env' })] : [];
