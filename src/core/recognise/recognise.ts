/** A tree → a whole definition, with a reason for each line and questions for what can't be known. Runs nothing. */
import { withStores } from './stores.js';
import { parse, stringify } from 'yaml';
import { issue } from '../errors/errors.js';
import { javaTexts, lookAtJava } from './java.js';
import { below, list, own, scalar } from './look.js';
import {
  type Answers,
  type Findings,
  line,
  type Line,
  type PartDraft,
  type Proposal,
  question,
  type Tree,
} from './model.js';
import { lookAtNode, nodeTexts } from './node.js';
import { lookAtPython, pythonTexts } from './python.js';
import { lookAtSite, siteFolders, siteTexts } from './site.js';
import { dotenvNotes, variableTexts } from './variables.js';

/** Texts that are looked at, and bytes of one of them. */
export const mostTexts = 300;
export const textLimit = 256 * 1024;

/** The paths whose texts `recognise` wants to see: those that say most stand first, at most `mostTexts`. */
export function wantedTexts(paths: readonly string[]): string[] {
  const manifest =
    /(^|\/)(package(-lock)?\.json|requirements\.txt|pyproject\.toml|pom\.xml|tsconfig\.json|index\.html|\.(nvmrc|node-version|python-version)|pytest\.ini)$/;
  const depth = (path: string) => path.split('/').length;
  return paths
    .filter((path) => nodeTexts(path) || pythonTexts(path) || javaTexts(path) || siteTexts(path) || variableTexts(path))
    .map((path) => ({ path, rank: (manifest.test(path) || variableTexts(path) ? 0 : 100) + depth(path) }))
    .filter(({ rank }) => rank < 106)
    .sort((a, b) => a.rank - b.rank || (a.path < b.path ? -1 : 1))
    .slice(0, mostTexts)
    .map(({ path }) => path);
}

export function recognise(tree: Tree, answers: Answers = {}): Proposal {
  const folders = candidateFolders(tree);
  const asked = question(
    'folder',
    'Which folder of the repository is the project?',
    folders.map(folderAnswer),
    answers,
    (text) => text === '.' || tree.paths.some((path) => path.startsWith(`${text}/`)),
  );
  if (asked.given && asked.answer !== '.') {
    const inside = below(tree, asked.answer);
    const found = lookAll(inside, answers);
    return { ...propose(found, asked.answer), questions: [asked, ...found.questions] };
  }
  const here = lookAll(withoutOthers(tree), answers);
  if (
    hasServer(here) ||
    here.tasks.length ||
    (here.parts.length && folders.every((folder) => siteFolders(tree).includes(folder))) ||
    folders.length === 0
  )
    return { ...propose(here, ''), questions: [...(asked.given ? [asked] : []), ...here.questions] };
  const beside = sideBySide(tree, folders, answers);
  if (beside)
    return {
      ...propose(beside, ''),
      questions: [
        question(
          'folder',
          asked.ask,
          [{ value: '.', why: 'a site and a server stand side by side' }, ...asked.answers],
          answers,
        ),
        ...beside.questions,
      ],
    };
  const folder = asked.answer;
  const inside = below(tree, folder);
  const found = lookAll(inside, answers);
  return { ...propose(found, folder), questions: [asked, ...found.questions] };
}

/** Folders up to two steps deep in which something that runs, or pages, begin. */
function candidateFolders(tree: Tree): string[] {
  const marks =
    /^(?:[^/]+\/){1,2}(package\.json|requirements\.txt|pyproject\.toml|pom\.xml|index\.html|(?:app|main|server|manage|wsgi|asgi)\.py|(?:server|index|app)\.[cm]?js)$/;
  const found = [
    ...new Set(
      tree.paths.filter((path) => own(path) && marks.test(path)).map((path) => path.slice(0, path.lastIndexOf('/'))),
    ),
  ];
  const outer = found.filter((folder) => !found.some((other) => folder.startsWith(`${other}/`)));
  const runs = (folder: string) =>
    Number(!lookAll(below(tree, folder), {}).parts.some((part) => part.kind === 'server'));
  return outer
    .slice(0, 40)
    .sort((a, b) => runs(a) - runs(b) || a.split('/').length - b.split('/').length || (a < b ? -1 : 1));
}

const folderAnswer = (folder: string) => ({ value: folder, why: 'something that can be run or served begins there' });

const manifests = ['package.json', 'requirements.txt', 'pyproject.toml', 'pom.xml'];

/** Where the root has no manifest, folders that have one of their own are not the root's. */
function withoutOthers(tree: Tree): Tree {
  if (manifests.some((name) => tree.paths.includes(name))) return tree;
  const others = tree.paths
    .filter((path) => path.includes('/') && manifests.includes(path.slice(path.lastIndexOf('/') + 1)))
    .map((path) => path.slice(0, path.lastIndexOf('/') + 1));
  const mine = (path: string) => !others.some((folder) => path.startsWith(folder));
  return others.length
    ? { paths: tree.paths.filter(mine), texts: new Map([...tree.texts].filter(([path]) => mine(path))) }
    : tree;
}

/** Everything that is found in one folder, as one. */
const lookAll = (tree: Tree, answers: Answers): Findings => withStores(lookAtPrograms(tree, answers), tree);

function lookAtPrograms(tree: Tree, answers: Answers): Findings {
  const programs = [lookAtNode(tree, answers), lookAtPython(tree, answers), lookAtJava(tree, answers)].filter(
    (one) => one !== null,
  );
  // What has a server leads; another language beside it lends its tasks and pages.
  programs.sort((a, b) => Number(hasServer(b)) - Number(hasServer(a)) || b.tasks.length - a.tasks.length);
  const pages = lookAtSite(tree);
  const all = programs.reduce<Findings | null>((before, next) => (before ? join(before, next) : next), null);
  if (!all)
    return pages ?? { what: '', why: '', tools: [], tasks: [], parts: [], variables: [], questions: [], notes: [] };
  const server = all.parts.find((part) => part.kind === 'server');
  if (!pages || all.parts.some((part) => part.kind === 'site'))
    return { ...all, notes: [...all.notes, ...dotenvNotes(tree)] };
  const texts = [...tree.texts]
    .filter(([path]) => !path.endsWith('.html') && !path.endsWith('.json'))
    .map(([, text]) => text)
    .join('\n');
  const [folder = ''] = siteFolders(tree);
  const servesThem =
    /static|text\/html|\.html['"`]/.test(texts) ||
    (folder !== '' && new RegExp(`['"\`/]${folder.split('/')[0]}\\b`).test(texts));
  if (server && (servesThem || !/['"`]\/api\b/.test(texts)))
    return { ...all, notes: [...all.notes, ...dotenvNotes(tree)] };
  if (!server && all.tasks.some((task) => task.name === 'build'))
    return { ...all, notes: [...all.notes, ...dotenvNotes(tree)] };
  const moved = server ? { ...server, name: 'api', at: '/api', lines: at(server.lines) } : null;
  return {
    ...all,
    what: `${all.what} and pages`,
    parts: [...pages.parts, ...all.parts.filter((part) => part !== server), ...(moved ? [moved] : [])],
    // Pages alone are no program: nothing has to start them.
    questions: all.questions.filter((one) => server || one.id !== 'start' || one.given),
    notes: [...all.notes, ...dotenvNotes(tree)],
  };
}

const hasServer = (found: Findings): boolean => found.parts.some((part) => part.kind === 'server');
const at = (lines: Line[]): Line[] => [
  ...lines.filter((one) => !one.text.startsWith('at:')),
  line('at: /api', 'its source answers there; the site is at /'),
];

/** Two findings of one folder; the second one's names give way. */
function join(first: Findings, second: Findings): Findings {
  const taken = new Set(first.tasks.map((task) => task.name));
  const suffix = second.what.toLowerCase().split(' ')[0] ?? 'other';
  const renamed = renameTasks(second, (name) => (taken.has(name) ? `${name}-${suffix}` : name));
  // One name and one address each: what leads keeps them.
  const clash = (one: PartDraft, other: PartDraft) =>
    one.name === other.name || (one.kind !== 'worker' && other.kind !== 'worker' && one.at === other.at);
  const parts = renamed.parts.filter(
    (part) => !(part.kind === 'server' && hasServer(first)) && !first.parts.some((one) => clash(one, part)),
  );
  const ids = new Set(first.questions.map((one) => one.id));
  return {
    what: `${first.what} and ${second.what}`,
    why: `${first.why}; ${second.why}`,
    tools: [...first.tools, ...second.tools],
    tasks: [...first.tasks, ...renamed.tasks],
    parts: [...first.parts, ...parts],
    variables: [
      ...first.variables,
      ...second.variables.filter((one) => !first.variables.some((other) => other.name === one.name)),
    ],
    ...((first.resources ?? second.resources) ? { resources: first.resources ?? second.resources ?? [] } : {}),
    prepare: first.prepare ?? second.prepare ?? null,
    questions: [...first.questions, ...second.questions.filter((one) => !ids.has(one.id))],
    notes: [...first.notes, ...second.notes],
  };
}

function renameTasks(found: Findings, rename: (name: string) => string): Findings {
  const lines = (all: Line[]) =>
    all.map((one) =>
      one.text.startsWith('needs:')
        ? line(`needs: ${list((parse(one.text) as { needs: string[] }).needs.map(rename))}`, one.why)
        : one,
    );
  return {
    ...found,
    tasks: found.tasks.map((task) => ({ name: rename(task.name), lines: lines(task.lines) })),
    parts: found.parts.map((part) => ({ ...part, lines: lines(part.lines) })),
  };
}

/** A server in one folder and pages in another make one project with both. */
function sideBySide(tree: Tree, folders: readonly string[], answers: Answers): Findings | null {
  const looked = folders.map((folder) => ({ folder, found: lookAll(below(tree, folder), answers) }));
  const servers = looked.filter((one) => hasServer(one.found));
  const sites = looked.filter((one) => !hasServer(one.found) && one.found.parts.some((part) => part.kind === 'site'));
  const [server, site] = [servers[0], sites[0]];
  if (servers.length !== 1 || sites.length !== 1 || !server || !site) return null;
  // A server with pages of its own needs no others.
  if (server.found.parts.some((part) => part.kind === 'site')) return null;
  const api = moveInto(server.found, server.folder);
  const web = moveInto(site.found, site.folder);
  const place: PartDraft[] = api.parts.map((part) =>
    part.kind === 'server' ? { ...part, name: 'api', at: '/api', lines: at(part.lines) } : part,
  );
  const both = join({ ...api, parts: place }, web);
  return {
    ...both,
    what: `${api.what} and pages`,
    parts: [...web.parts.filter((part) => part.kind === 'site'), ...place],
  };
}

const stepped = (folder: string) =>
  folder
    .replace(/[^a-z0-9-]+/gi, '-')
    .toLowerCase()
    .replace(/^[^a-z]+/, '') || 'part';

/** Findings of a folder, as lines of a definition that stands above it. */
function moveInto(found: Findings, folder: string): Findings {
  const renamed = renameTasks(found, (name) => `${stepped(folder)}-${name}`.slice(0, 40));
  const paths = (value: unknown): string[] =>
    (Array.isArray(value) ? value.map(String) : []).map((path) =>
      path.startsWith('~/') ? path : path === '.' ? `${folder}/` : `${folder}/${path}`,
    );
  const move = (one: Line): Line => {
    const [key = ''] = one.text.split(':');
    const value = (parse(one.text) as Record<string, unknown>)[key];
    if (key === 'reads' || key === 'makes' || key === 'cache' || key === 'files')
      return line(`${key}: ${list(paths(value))}`, one.why);
    if (key === 'run') return line(`run: ${scalar(`cd ${folder} && ${String(value)}`)}`, one.why);
    if (key === 'start')
      return line(
        `start: ${scalar(`cd ${folder} && ${/^exec /.test(String(value)) ? '' : 'exec '}${String(value)}`)}`,
        one.why,
      );
    if (key === 'root')
      return line(`root: ${scalar(String(value) === '.' ? folder : `${folder}/${String(value)}`)}`, one.why);
    if (key === 'results') return line(`results: ${scalar(`${folder}/${value as string}`)}`, one.why);
    if (key === 'variables') return line(one.text.replaceAll('/project/', `/project/${folder}/`), one.why);
    return one;
  };
  const readsOwn = (lines: Line[]): Line[] =>
    lines.some((one) => /^(reads|files):/.test(one.text))
      ? lines
      : [line(`reads: ${list([`${folder}/`])}`, 'the folder it belongs to'), ...lines];
  return {
    ...renamed,
    tasks: renamed.tasks.map((task) => ({ ...task, lines: readsOwn(task.lines.map(move)) })),
    parts: renamed.parts.map((part) => {
      const lines = part.lines.map(move);
      const hasFiles = lines.some((one) => one.text.startsWith('files:')) || part.kind === 'site';
      return {
        ...part,
        lines: hasFiles
          ? lines
          : [
              ...lines.slice(0, 1),
              line(`files: ${list([`${folder}/`])}`, 'the folder it belongs to'),
              ...lines.slice(1),
            ],
      };
    }),
    prepare: renamed.prepare?.map(move) ?? null,
    variables: renamed.variables.map((one) => ({
      ...one,
      text: one.text.replaceAll('/project/', `/project/${folder}/`),
    })),
    notes: renamed.notes.map((one) =>
      typeof one.data.file === 'string' ? { ...one, data: { ...one.data, file: `${folder}/${one.data.file}` } } : one,
    ),
  };
}

/** Writes the definition down. */
function propose(found: Findings, folder: string): Proposal {
  const lines: { text: string; why: string | null }[] = [];
  const put = (depth: number, text: string, why: string | null) => lines.push({ text: '  '.repeat(depth) + text, why });
  const gap = () => lines.push({ text: '', why: null });
  put(0, 'tsunagi: 1', 'the version of this format');
  const tools = found.tools.filter((one, index, all) => all.findIndex((other) => other.tool === one.tool) === index);
  if (tools.length)
    put(
      0,
      `tools: { ${tools.map((one) => `${one.tool}: ${stringify(one.range, { defaultStringType: 'QUOTE_DOUBLE' }).trim()}`).join(', ')} }`,
      tools.map((one) => `${one.tool}: ${one.why}`).join('; '),
    );
  if (found.tasks.length) {
    gap();
    put(0, 'tasks:', 'what is done with each commit');
    for (const task of found.tasks) {
      put(1, `${task.name}:`, null);
      for (const one of task.lines) put(2, one.text, one.why);
    }
  }
  if (found.parts.length) {
    gap();
    put(0, 'release:', 'what a commit becomes when its tasks have passed');
    const checks = found.tasks.map((task) => task.name).filter((name) => /^(.*-)?(lint|unit)(-.*)?$/.test(name));
    if (checks.length) put(1, `needs: ${list(checks)}`, 'no release without them');
    put(1, 'parts:', null);
    for (const part of found.parts) {
      put(2, `${part.name}:`, null);
      for (const one of part.lines) put(3, one.text, one.why);
    }
    if (found.variables.length) {
      put(1, 'variables:', 'what its programs get; people set the rest for each environment');
      for (const one of found.variables) put(2, `${one.name}: ${one.text}`, one.why);
    }
    if (found.resources?.length) {
      put(1, 'resources:', 'what each environment gets of its own');
      for (const one of found.resources) put(2, `${one.name}: ${one.text}`, one.why);
    }
    if (found.prepare?.length) {
      put(1, 'prepare:', null);
      for (const one of found.prepare) put(2, one.text, one.why);
    }
    gap();
    put(0, 'environments:', 'where releases go');
    put(1, 'review: { for: pull requests }', 'each pull request gets an address of its own');
    put(1, 'staging: { branch: main }', 'takes what is pushed to main automatically');
    put(1, 'production: { after: staging }', 'takes what has been live in staging, when somebody promotes it');
  }
  const said = found.notes.some((one) => one.code === 'recognise_server_missing' || one.code === 'recognise_tool');
  const notes = [...found.notes, ...(found.parts.length || said ? [] : [issue('recognise_nothing')])];
  return {
    found: found.what ? [{ what: found.what, folder, why: found.why }] : [],
    text: `${lines.map((one) => one.text).join('\n')}\n`,
    reasons: lines.flatMap((one, index) => (one.why ? [{ line: index + 1, why: one.why }] : [])),
    questions: found.questions,
    notes: notes.filter(
      (one, index) => notes.findIndex((other) => JSON.stringify(other) === JSON.stringify(one)) === index,
    ),
  };
}
