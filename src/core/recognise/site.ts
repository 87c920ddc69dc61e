/** Pages that need no program: a folder with an index.html. */
import { list, own, scalar } from './look.js';
import { type Findings, line, nothing, type Tree } from './model.js';

export const siteTexts = (path: string): boolean => /(^|\/)index\.html$/.test(path) && own(path);

const usual = ['public', 'web', 'site', 'www', 'static', 'html', 'docs', 'client', 'frontend', ''];
/** What lies beside the pages of a root folder and is not for visitors. */
const notPages =
  /^(tsunagi\.yaml|readme.*|license.*|changelog.*|contributing.*|package(-lock)?\.json|.*\.(ya?ml|toml|lock|ini|cfg|sh|py|java|mjs|cjs|ts)|makefile)$/i;

/** The folder of the pages, the likeliest first; '' is the project's own. */
export const siteFolders = (tree: Tree): string[] =>
  tree.paths
    .filter((path) => siteTexts(path) && path.split('/').length <= 3)
    .map((path) => path.replace(/\/?index\.html$/, ''))
    .sort((a, b) => rank(a) - rank(b) || (a < b ? -1 : 1));

const rank = (folder: string): number => {
  const at = usual.indexOf(folder);
  return at < 0 ? usual.length + folder.split('/').length : at;
};

export function lookAtSite(tree: Tree): Findings | null {
  const [folder] = siteFolders(tree);
  if (folder === undefined) return null;
  const found = nothing('Pages', `there is ${folder ? `${folder}/` : ''}index.html`);
  const top = [
    ...new Set(
      tree.paths.filter(own).map((path) => (path.includes('/') ? `${path.slice(0, path.indexOf('/'))}/` : path)),
    ),
  ].filter((name) => !name.startsWith('.') && !notPages.test(name));
  found.parts.push({
    name: 'site',
    kind: 'site',
    at: '/',
    lines: [
      line('kind: site', `there is ${folder ? `${folder}/` : ''}index.html`),
      folder
        ? line(`files: ${list([`${folder}/`])}`, 'the folder that holds it')
        : line(`files: ${list(top)}`, 'what visitors may see; what is for developers is left out'),
      line(`root: ${folder ? scalar(folder) : '.'}`, 'what is served at /'),
    ],
  });
  return found;
}
