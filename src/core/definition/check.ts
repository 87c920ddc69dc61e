/** Warnings that need the commit's files as well as its definition. */
import { issue, type Issue } from '../errors/errors.js';
import { select } from '../paths.js';
import type { Definition } from './model.js';

/** Root files that tools look for by themselves. */
const wellKnown =
  /^(package-lock\.json|npm-shrinkwrap\.json|yarn\.lock|pnpm-lock\.yaml|tsconfig(\..+)?\.json|(jest|vitest|vite|webpack|babel|eslint)\.config\.[cm]?[jt]s|\.babelrc|\.npmrc|pyproject\.toml|requirements\.txt|setup\.cfg|tox\.ini|pytest\.ini|pom\.xml|Cargo\.lock|go\.sum)$/;

/**
 * @param paths every file of the project's folder
 * @param attributes text of `.gitattributes`, where there is one
 */
export function checkAgainst(definition: Definition, paths: readonly string[], attributes: string | null): Issue[] {
  const issues: Issue[] = [];
  const chosen = (patterns: string[] | null, place: string): string[] => {
    const { paths: found, idle } = select(paths, patterns);
    for (const pattern of idle) issues.push(issue('pattern_matches_nothing', { pattern, place }));
    return found;
  };
  const known = paths.filter((file) => !file.includes('/') && wellKnown.test(file));
  for (const task of Object.values(definition.tasks)) {
    const seen = new Set(chosen(task.reads, `tasks.${task.name}.reads`));
    if (!task.reads || seen.size === 0) continue;
    for (const file of known)
      if (!seen.has(file)) issues.push(issue('unread_root_file', { place: `tasks.${task.name}`, file }));
  }
  for (const part of Object.values(definition.release?.parts ?? {}))
    chosen(part.files, `release.parts.${part.name}.files`);
  if (definition.release?.migrations) chosen(definition.release.migrations, 'release.migrations.files');
  for (const environment of Object.values(definition.environments))
    if (environment.verify) chosen(environment.verify.reads, `environments.${environment.name}.verify.reads`);
  const asked = attributes && /^[^#\n]*\s(filter=\S+|text(=auto)?|eol=\S+|ident)(\s|$)/m.exec(attributes);
  if (asked) issues.push(issue('filter_attribute', { file: '.gitattributes', attribute: asked[1] as string }));
  return issues;
}
