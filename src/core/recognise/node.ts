/** Node with npm: its scripts, engines and lock file, and what its source says. */
import { counted } from '../counted.js';
import { ownCaches } from './caches.js';
import { issue } from '../errors/errors.js';
import { unsafePath } from '../paths.js';
import { list, namedPort, own, parseJson, readyPath, record, scalar, texts, word } from './look.js';
import { type Answers, type Findings, line, nothing, question, type TaskDraft, type Tree } from './model.js';
import { environmentVariables } from './variables.js';

const source = /\.[cm]?js$/;
const test = /(^|\/)(tests?|__tests__|spec|e2e)\/|\.(test|spec)\.[cm]?[jt]s$/;
const tooling = /(^|\/)[^/]*\.config\.[cm]?js$|(^|\/)\.[^/]+$|\.min\.js$/;

export const nodeTexts = (path: string): boolean =>
  own(path) &&
  (/(^|\/)(package\.json|package-lock\.json|\.nvmrc|\.node-version|tsconfig\.json)$/.test(path) || isSource(path));
const isSource = (path: string): boolean => source.test(path) && !test.test(path) && !tooling.test(path);

/** Tools that write pages → the folder they write by default. */
const pageBuilders: Record<string, string> = {
  vite: 'dist',
  astro: 'dist',
  parcel: 'dist',
  webpack: 'dist',
  rollup: 'dist',
  esbuild: 'dist',
  'react-scripts': 'build',
  '@11ty/eleventy': '_site',
  gatsby: 'public',
  '@angular/cli': 'dist',
};

const listens = /\.listen\s*\(|export default (app|server)\b|createServer\s*\(/;
const servesPages = /express\.static|@fastify\/static|serve-static|sendFile\s*\(|koa-static|text\/html|\.html['"`]/;

export function lookAtNode(tree: Tree, answers: Answers): Findings | null {
  const manifest = parseJson(tree.texts.get('package.json'));
  const sources = [...tree.texts].filter(([path]) => isSource(path));
  const servers = sources.filter(([, text]) => listens.test(text)).map(([path]) => path);
  if (!manifest && servers.length === 0) return null;
  const found = nothing(
    manifest ? 'Node with npm' : 'Node',
    manifest ? 'there is a package.json' : `${servers[0]} listens for requests`,
  );
  const scripts = texts(manifest?.scripts);
  const dependencies = { ...texts(manifest?.devDependencies), ...texts(manifest?.dependencies) };
  found.tools.push(nodeVersion(tree, manifest));
  const needs = dependencyTask(tree, found, dependencies);
  checks(found, scripts, dependencies, needs);
  const built = buildTask(tree, found, scripts, dependencies, needs, answers);
  const start = startOf(found, scripts, manifest, servers, built, answers);
  const all = sources.map(([, text]) => text).join('\n');
  if (start) {
    const entry =
      sources.find(([path]) => start.command.split(/\s+/).includes(path)) ??
      sources.find(([path]) => servers.includes(path));
    const pages = built?.pages && !servesPages.test(all) ? built : null;
    addServer(found, start, [...needs, ...(built && !pages ? ['build'] : [])], entry, all, pages !== null);
    if (pages) addSite(found, pages.output);
  } else if (built?.pages) addSite(found, built.output);
  for (const [name, command] of Object.entries(scripts))
    if (/^worker(:.*)?$/.test(name))
      found.parts.push({
        name: name.replace(/[^a-z0-9-]+/g, '-'),
        kind: 'worker',
        at: '',
        lines: [
          line('kind: worker', `the script \`${name}\` of package.json: it answers no requests`),
          ...(needs.length ? [line(`needs: ${list(needs)}`, 'it needs the installed packages')] : []),
          line(`start: ${scalar(direct(command) ? command : `npm run ${name}`)}`, `the script \`${name}\``),
        ],
      });
  if (found.parts.some((part) => part.kind !== 'site'))
    found.variables.push(...environmentVariables(tree, sources, nodeVariable));
  return found;
}

const nodeVariable =
  /process\.env(?:\.([A-Z][A-Z0-9_]*)|\[['"]([A-Z][A-Z0-9_]*)['"]\])(?:\s*(?:\?\?|\|\|)\s*(?:(['"`])([^'"`\n$]*)\3|(\d+)))?/g;

function nodeVersion(tree: Tree, manifest: Record<string, unknown> | null) {
  const engines = texts(manifest?.engines).node;
  const file = ['.nvmrc', '.node-version'].find((path) => tree.texts.has(path));
  const pinned = file && /^v?(\d+(\.\d+){0,2})\s*$/.exec(tree.texts.get(file) ?? '')?.[1];
  if (engines && /^[0-9A-Za-z.^~<>=|*x -]{1,100}$/.test(engines))
    return { tool: 'node', range: engines, why: '`engines` of package.json' };
  if (pinned)
    return { tool: 'node', range: pinned.split('.').length === 3 ? `~${pinned}` : pinned, why: `${file} names it` };
  return { tool: 'node', range: '>=20', why: 'no version is named; any from 20 on' };
}

/** The task that installs packages, where the lock file has any. */
function dependencyTask(tree: Tree, found: Findings, dependencies: Record<string, string>): string[] {
  const lock = parseJson(tree.texts.get('package-lock.json'));
  const packages =
    Object.keys(record(lock?.packages)).filter((name) => name !== '').length ||
    Object.keys(record(lock?.dependencies)).length;
  const count = Object.keys(dependencies).length;
  if (packages === 0) {
    if (count && !lock)
      found.notes.push(
        issue('recognise_no_lock', { count, file: 'package-lock.json', command: 'npm install --package-lock-only' }),
      );
    return [];
  }
  found.tasks.push({
    name: 'deps',
    lines: [
      line('reads: [package.json, package-lock.json]', 'it is done again only when one of these changes'),
      line('run: npm ci', `package-lock.json has ${counted(packages, 'package')}`),
      line('makes: [node_modules/]', 'what npm installs'),
      line('cache: [~/.npm/]', 'what npm has fetched is kept'),
      line('network: true', 'npm fetches packages'),
    ],
  });
  return ['deps'];
}

const withNeeds = (needs: readonly string[]) =>
  needs.length ? [line(`needs: ${list(needs)}`, 'it needs the installed packages')] : [];

function checks(
  found: Findings,
  scripts: Record<string, string>,
  dependencies: Record<string, string>,
  needs: readonly string[],
): void {
  const add = (name: string, script: string): number =>
    found.tasks.push({
      name,
      lines: [
        ...withNeeds(needs),
        line(
          `run: ${script === 'test' ? 'npm test' : `npm run ${script}`}`,
          `the script \`${script}\` of package.json`,
        ),
        ...ownCaches(scripts[script] ?? '', dependencies),
      ],
    });
  if (scripts.lint) add('lint', 'lint');
  if (scripts.test && !/no test specified/.test(scripts.test)) add('unit', 'test');
}

interface Built {
  output: string;
  /** It writes pages for browsers. */
  pages: boolean;
}

function buildTask(
  tree: Tree,
  found: Findings,
  scripts: Record<string, string>,
  dependencies: Record<string, string>,
  needs: readonly string[],
  answers: Answers,
): Built | null {
  const { build } = scripts;
  if (!build) return null;
  const builder = Object.keys(pageBuilders).find(
    (name) => Object.hasOwn(dependencies, name) && build.includes(name.replace(/^@[^/]+\//, '')),
  );
  const compiled = texts(record(parseJson(tree.texts.get('tsconfig.json'))?.compilerOptions))
    .outDir?.replace(/^\.\//, '')
    .replace(/\/$/, '');
  const named = /(?:--out-?[dD]ir|--outdir|-o|--dist-dir|-d)[= ]([\w./-]+)/
    .exec(build)?.[1]
    ?.replace(/^\.\//, '')
    .replace(/\/$/, '');
  const likely = [
    ...(named ? [{ value: named, why: `the script \`build\` names it` }] : []),
    ...(builder ? [{ value: pageBuilders[builder] as string, why: `${builder} writes there` }] : []),
    ...(/\bnext build\b/.test(build) ? [{ value: '.next', why: 'next writes there' }] : []),
    ...(compiled && /\btsc\b/.test(build) ? [{ value: compiled, why: '`outDir` of tsconfig.json' }] : []),
  ];
  const rest = ['dist', 'build', 'public', 'out'].map((value) => ({ value, why: 'builds often write there' }));
  const choices = [...likely, ...rest].filter(
    (one, at, all) => unsafePath(one.value) === null && all.findIndex((other) => other.value === one.value) === at,
  );
  const asked = question(
    'output',
    'Which folder does `npm run build` write?',
    choices,
    answers,
    (text) => unsafePath(text) === null,
  );
  if (likely.length !== 1 || asked.given) found.questions.push(asked);
  const why = asked.given ? 'you said so' : (choices.find((one) => one.value === asked.answer)?.why ?? '');
  const output = asked.answer.replace(/\/$/, '');
  const task: TaskDraft = {
    name: 'build',
    lines: [
      ...withNeeds(needs),
      line('run: npm run build', 'the script `build` of package.json'),
      line(`makes: ${list([`${output}/`])}`, why),
      ...ownCaches(build, dependencies, [output]),
    ],
  };
  found.tasks.push(task);
  const forBrowsers = builder !== undefined || tree.paths.some((path) => /(^|\/)index\.html$/.test(path) && own(path));
  return { output, pages: forBrowsers && !/\bnext build\b/.test(build) && !/\btsc\b(?!.*&&)/.test(build) };
}

/** One program with plain words: no shell around it is needed. */
const direct = (command: string): boolean => /^node( [\w./=@:-]+)+$/.test(command);

function startOf(
  found: Findings,
  scripts: Record<string, string>,
  manifest: Record<string, unknown> | null,
  servers: string[],
  built: Built | null,
  answers: Answers,
): { command: string; why: string } | null {
  const named: { value: string; why: string }[] = [];
  if (scripts.start)
    named.push({
      value: direct(scripts.start) ? scripts.start : 'npm start',
      why: 'the script `start` of package.json',
    });
  const main = typeof manifest?.main === 'string' ? manifest.main.replace(/^\.\//, '') : null;
  const byName = [...servers].sort((a, b) => rank(a, main) - rank(b, main) || (a < b ? -1 : 1));
  named.push(
    ...byName.map((path) => ({
      value: `node ${word(path)}`,
      why: path === main ? '`main` of package.json, and it listens' : `${path} listens for requests`,
    })),
  );
  const choices = named.filter((one, at) => named.findIndex((other) => other.value === one.value) === at).slice(0, 6);
  const asked = question('start', 'Which command starts the server?', choices, answers);
  const certain = Boolean(scripts.start) || servers.length === 1;
  if (asked.given) {
    found.questions.push(asked);
    return asked.answer === 'none' ? null : { command: asked.answer, why: 'you said so' };
  }
  if (certain) return { command: asked.answer, why: choices[0]?.why ?? '' };
  if (choices.length) {
    found.questions.push(asked);
    return { command: asked.answer, why: choices[0]?.why ?? '' };
  }
  // A build of pages alone needs no server; anything else that has a manifest may be a library: that is asked.
  if (manifest && !built?.pages)
    found.questions.push(
      question(
        'start',
        'Which command starts the server?',
        [
          { value: 'none', why: 'nothing in it listens for requests' },
          { value: 'node server.js', why: 'servers are often named so' },
          { value: 'node index.js', why: 'programs often begin there' },
        ],
        answers,
      ),
    );
  return null;
}

const rank = (path: string, main: string | null): number => {
  if (path === main) return 0;
  const name = path.split('/').at(-1) ?? '';
  const usual = ['server', 'index', 'app', 'main', 'start'].indexOf(name.replace(source, ''));
  return 1 + path.split('/').length * 10 + (usual < 0 ? 9 : usual);
};

function addServer(
  found: Findings,
  start: { command: string; why: string },
  needs: string[],
  entry: [string, string] | undefined,
  all: string,
  besidePages: boolean,
): void {
  const at = besidePages && /['"`]\/api\b/.test(all) ? '/api' : besidePages ? '/server' : '/';
  const ready = readyPath(all);
  found.parts.push({
    name: besidePages ? 'api' : 'web',
    kind: 'server',
    at,
    lines: [
      line('kind: server', entry ? `${entry[0]} listens for requests` : 'it is started by a command'),
      ...(needs.length ? [line(`needs: ${list(needs)}`, 'what these tasks make belongs to it')] : []),
      line(`start: ${scalar(start.command)}`, start.why),
      ...(at === '/'
        ? []
        : [line(`at: ${at}`, at === '/api' ? 'its source answers there; the site is at /' : 'the site is at /')]),
      ...(ready ? [line(`ready: ${ready}`, `its source answers ${ready}`)] : []),
    ],
  });
  if (!entry) return;
  const port = namedPort(entry[1], /\.listen\(\s*(\d{2,5})\b|\b(?:port|PORT)\s*[:=]\s*(\d{2,5})\b/);
  if (port && !/process\.env\.PORT|process\.env\[['"]PORT/.test(all))
    found.notes.push(issue('recognise_port', { file: entry[0], port, variable: 'process.env.PORT' }));
  const address = /\.listen\([^)]*['"](127\.0\.0\.1|localhost|::1)['"]/.exec(entry[1])?.[1];
  if (address) found.notes.push(issue('recognise_address', { file: entry[0], address }));
}

function addSite(found: Findings, output: string): void {
  found.parts.push({
    name: 'site',
    kind: 'site',
    at: '/',
    lines: [
      line('kind: site', 'the build writes pages'),
      line('needs: [build]', 'its files are what `build` makes'),
      line(`root: ${scalar(output)}`, 'the folder that the build writes'),
    ],
  });
}
