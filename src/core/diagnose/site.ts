/** Whether pages that are served below a path ask for things that are not below it: most builders expect to be at /. */
import { issue, type Issue } from '../errors/errors.js';
import type { Part } from '../definition/model.js';

/** What a page asks its own host for by a path from the root: sources, styles, icons; not the addresses that it leads to. */
const asked =
  /<(?:script|img|source|iframe|video|audio|embed)\b[^>]*?\bsrc\s*=\s*["']?(\/(?!\/)[^\s"'>]*)|<link\b[^>]*?\bhref\s*=\s*["']?(\/(?!\/)[^\s"'>]*)/gi;

export function diagnoseSite(part: Pick<Part, 'name' | 'at'>, page: string): Issue | null {
  if (part.at === '/') return null;
  for (const found of page.matchAll(asked)) {
    const ref = (found[1] ?? found[2]) as string;
    if (ref !== part.at && !ref.startsWith(`${part.at}/`))
      return issue('site_below', { part: part.name, at: part.at, ref: ref.slice(0, 200) });
  }
  return null;
}
