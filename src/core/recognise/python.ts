/** Python: requirements, entry points (WSGI is PEP 3333, ASGI its asynchronous sister), tests. */
import { counted } from '../counted.js';
import { ownCaches } from './caches.js';
import { parse } from 'smol-toml';
import { issue } from '../errors/errors.js';
import { list, namedPort, own, readyPath, record, scalar, word } from './look.js';
import { type Answers, type Findings, line, nothing, question, type Tree } from './model.js';
import { environmentVariables } from './variables.js';

const source = /\.py$/;
const test = /(^|\/)(tests?\/.*|test_[^/]*|[^/]*_test)\.py$/;
const tooling = /(^|\/)(setup|conftest|noxfile|fabfile|tasks)\.py$/;

export const pythonTexts = (path: string): boolean =>
  own(path) &&
  (/(^|\/)(requirements\.txt|pyproject\.toml|\.python-version|pytest\.ini|setup\.cfg|tox\.ini|Pipfile|poetry\.lock)$/.test(
    path,
  ) ||
    source.test(path));

const packages = '.packages';

export function lookAtPython(tree: Tree, answers: Answers): Findings | null {
  const programs = [...tree.texts].filter(([path]) => source.test(path) && !test.test(path) && !tooling.test(path));
  const tests = tree.paths.filter((path) => test.test(path) && own(path));
  const hasRequirements = tree.texts.has('requirements.txt');
  const project = pyproject(tree.texts.get('pyproject.toml'));
  if (programs.length === 0 && !hasRequirements && !project) return null;
  const found = nothing(
    'Python',
    hasRequirements
      ? 'there is a requirements.txt'
      : project
        ? 'there is a pyproject.toml'
        : `${programs[0]?.[0]} is a Python program`,
  );
  found.tools.push(pythonVersion(tree, project));
  const requirements = [
    ...requirementNames(tree.texts.get('requirements.txt') ?? ''),
    ...(project?.dependencies ?? []),
  ];
  const needs = packageTask(tree, found, requirements);
  testTask(tree, found, requirements, tests, needs);
  const start = startOf(found, programs, requirements, needs.length > 0, answers);
  if (!start) return found;
  const all = programs.map(([, text]) => text).join('\n');
  const ready = readyPath(all);
  found.parts.push({
    name: 'web',
    kind: 'server',
    at: '/',
    lines: [
      line('kind: server', start.why),
      ...(needs.length ? [line(`needs: ${list(needs)}`, 'the installed packages belong to it')] : []),
      line(`start: ${scalar(start.command)}`, start.how),
      ...(ready ? [line(`ready: ${ready}`, `its source answers ${ready}`)] : []),
    ],
  });
  if (needs.length)
    found.variables.push({ name: 'PYTHONPATH', text: `/project/${packages}`, why: 'where `deps` puts the packages' });
  found.variables.push({ name: 'PYTHONUNBUFFERED', text: `'1'`, why: 'its lines reach the log at once' });
  found.variables.push(...environmentVariables(tree, programs, pythonVariable));
  const entry = programs.find(([path]) => path === start.file);
  if (start.plain && entry && !/environ(?:\.get)?[[(]\s*['"]PORT['"]/.test(all)) {
    const port = namedPort(
      entry[1],
      /\(\s*['"][^'"]*['"]\s*,\s*(\d{2,5})\s*\)|port\s*=\s*(\d{2,5})\b|PORT\s*=\s*(\d{2,5})\b/,
    );
    if (port) found.notes.push(issue('recognise_port', { file: entry[0], port, variable: "os.environ['PORT']" }));
  }
  const address = start.plain ? /\(\s*\(?\s*['"](127\.0\.0\.1|localhost)['"]\s*,/.exec(entry?.[1] ?? '')?.[1] : null;
  if (address && entry) found.notes.push(issue('recognise_address', { file: entry[0], address }));
  return found;
}

const pythonVariable =
  /(?:os\.)?(?:environ\[\s*['"]([A-Z][A-Z0-9_]*)['"]\s*\]|(?:environ\.get|getenv)\(\s*['"]([A-Z][A-Z0-9_]*)['"](?:\s*,\s*(?:(['"])([^'"\n]*)\3|(\d+)))?)/g;

interface Project {
  requires: string | null;
  dependencies: string[];
}

function pyproject(text: string | undefined): Project | null {
  if (text === undefined) return null;
  try {
    const project = record(parse(text).project);
    const list = Array.isArray(project.dependencies)
      ? project.dependencies.filter((one): one is string => typeof one === 'string')
      : [];
    return {
      requires: typeof project['requires-python'] === 'string' ? project['requires-python'] : null,
      dependencies: list.map(bareName).filter(Boolean),
    };
  } catch {
    return { requires: null, dependencies: [] };
  }
}

/** The name at the front of a requirement (PEP 508). */
const bareName = (text: string): string =>
  /^[A-Za-z0-9][A-Za-z0-9._-]*/
    .exec(text.trim())?.[0]
    .toLowerCase()
    .replace(/[._-]+/g, '-') ?? '';

const requirementNames = (text: string): string[] =>
  text
    .split(/\r?\n/)
    .map((one) => one.replace(/(^|\s)#.*$/, '').trim())
    .filter((one) => one && !one.startsWith('-'))
    .map(bareName)
    .filter(Boolean);

function pythonVersion(tree: Tree, project: Project | null) {
  const requires = project?.requires
    ?.replaceAll(',', ' ')
    .replace(/==\s*([\d.]+)\.\*/g, '$1')
    .replace(/~=\s*/g, '>=')
    .trim();
  const pinned = /^(\d+\.\d+)/.exec(tree.texts.get('.python-version') ?? '')?.[1];
  if (requires && /^[0-9.<>=~^| *x-]{1,100}$/.test(requires))
    return { tool: 'python', range: requires, why: '`requires-python` of pyproject.toml' };
  if (pinned) return { tool: 'python', range: pinned, why: '.python-version names it' };
  return { tool: 'python', range: '>=3.9', why: 'no version is named; any from 3.9 on' };
}

function packageTask(tree: Tree, found: Findings, requirements: readonly string[]): string[] {
  if (requirements.length === 0) return [];
  if (!tree.texts.has('requirements.txt')) {
    found.notes.push(
      issue('recognise_no_lock', {
        count: requirements.length,
        file: 'requirements.txt',
        command: 'pip install . && pip freeze > requirements.txt',
      }),
    );
    return [];
  }
  found.tasks.push({
    name: 'deps',
    lines: [
      line('reads: [requirements.txt]', 'it is done again only when this changes'),
      line(
        `run: python3 -m pip install --target ${packages} --requirement requirements.txt`,
        `requirements.txt names ${counted(requirements.length, 'package')}`,
      ),
      line(`makes: [${packages}/]`, 'what pip installs'),
      line('cache: [~/.cache/pip/]', 'what pip has fetched is kept'),
      line('network: true', 'pip fetches packages'),
    ],
  });
  return ['deps'];
}

function testTask(
  tree: Tree,
  found: Findings,
  requirements: readonly string[],
  tests: readonly string[],
  needs: readonly string[],
): void {
  if (tests.length === 0) return;
  const pytest =
    requirements.includes('pytest') ||
    tree.paths.includes('pytest.ini') ||
    /\[tool\.pytest/.test(tree.texts.get('pyproject.toml') ?? '');
  const folder = tests.every((path) => path.startsWith('tests/'))
    ? 'tests'
    : tests.every((path) => path.startsWith('test/'))
      ? 'test'
      : null;
  const shared = [
    ...(needs.length
      ? [
          line(`needs: ${list(needs)}`, 'they need the installed packages'),
          line(`variables: { PYTHONPATH: /project/${packages} }`, 'where `deps` puts them'),
        ]
      : []),
  ];
  found.tasks.push({
    name: 'unit',
    lines: pytest
      ? [
          ...shared,
          line(
            'run: python3 -m pytest --junitxml=results.xml',
            'pytest is among the requirements, or has its settings here',
          ),
          line('results: results.xml', 'pytest writes its results there'),
          ...ownCaches('pytest', {}),
        ]
      : [
          ...shared,
          line(
            `run: python3 -m unittest discover${folder ? ` --start-directory ${folder} --top-level-directory .` : ''}`,
            `${tests[0]} holds tests`,
          ),
        ],
  });
  // Without an __init__.py a folder of tests is found only as its own top.
  const last = found.tasks.at(-1)?.lines.at(-1);
  if (!pytest && folder && last && !tree.paths.includes(`${folder}/__init__.py`))
    last.text = `run: PYTHONPATH="\${PYTHONPATH:-}:." python3 -m unittest discover --start-directory ${folder}`;
}

interface Start {
  command: string;
  /** Why this is a server. */
  why: string;
  /** Why it is started so. */
  how: string;
  file: string;
  /** It is run as it stands, and decides itself where it listens. */
  plain: boolean;
}

function startOf(
  found: Findings,
  programs: (readonly [string, string])[],
  requirements: readonly string[],
  installed: boolean,
  answers: Answers,
): Start | null {
  const starts = programs.flatMap(([path, text]) => entryOf(path, text, requirements, installed));
  const rank = ({ file }: Start): number =>
    file.split('/').length * 10 +
    Math.max(
      0,
      ['app.py', 'main.py', 'server.py', 'wsgi.py', 'asgi.py', 'manage.py'].indexOf(file.split('/').at(-1) ?? ''),
    );
  starts.sort((a, b) => rank(a) - rank(b));
  const choices = starts
    .map((one) => ({ value: one.command, why: one.how }))
    .filter((one, at, all) => all.findIndex((other) => other.value === one.value) === at);
  const asked = question(
    'start',
    'Which command starts the server?',
    choices.length
      ? choices
      : [
          { value: 'none', why: 'nothing in it listens for requests' },
          { value: 'python3 app.py', why: 'programs are often named so' },
        ],
    answers,
  );
  if (choices.length !== 1 || asked.given) found.questions.push(asked);
  if (asked.given && !choices.some((one) => one.value === asked.answer))
    return asked.answer === 'none'
      ? null
      : { command: asked.answer, why: 'you said so', how: 'you said so', file: '', plain: false };
  const chosen = starts.find((one) => one.command === asked.answer) ?? null;
  // An ASGI program needs a server that is installed: without one there is nothing that could start it.
  const asgi = programs.find(([, text]) => /\bFastAPI\(|\bStarlette\(|async def app\(\s*scope/.test(text));
  if (!chosen && asgi)
    found.notes.push(
      issue('recognise_server_missing', {
        file: asgi[0],
        servers: 'uvicorn or hypercorn',
        requirements: 'requirements.txt',
      }),
    );
  return chosen;
}

const module = (path: string): string => path.replace(/\.py$/, '').replaceAll('/', '.');

function entryOf(path: string, text: string, requirements: readonly string[], installed: boolean): Start[] {
  const has = (name: string) => requirements.includes(name);
  const bin = (name: string, rest: string) => (installed ? `python3 -m ${name} ${rest}` : `${name} ${rest}`);
  const start = (command: string, why: string, how: string, plain = false): Start => ({
    command,
    why,
    how,
    file: path,
    plain,
  });
  if (/(^|\/)manage\.py$/.test(path) && /django/i.test(text)) {
    const settings = /['"]([\w.]+)\.settings['"]/.exec(text)?.[1];
    if (settings && has('gunicorn'))
      return [
        start(
          bin('gunicorn', `--bind "0.0.0.0:$PORT" ${settings}.wsgi`),
          'manage.py is Django’s',
          'gunicorn is among the requirements',
        ),
      ];
    return [
      start(
        `python3 ${word(path)} runserver --noreload "0.0.0.0:$PORT"`,
        'manage.py is Django’s',
        'no other server is among the requirements',
      ),
    ];
  }
  const name =
    /^(\w+)\s*(?::\s*\w+\s*)?=\s*(?:Flask|get_wsgi_application|Bottle|falcon\.App|web\.application)\(/m.exec(
      text,
    )?.[1] ??
    /^def (application|app)\(\s*environ/m.exec(text)?.[1] ??
    null;
  const asgi =
    /^(\w+)\s*(?::\s*\w+\s*)?=\s*(?:FastAPI|Starlette|Quart|Litestar|get_asgi_application)\(/m.exec(text)?.[1] ??
    /^async def (application|app)\(\s*scope/m.exec(text)?.[1] ??
    null;
  if (asgi) {
    if (has('uvicorn'))
      return [
        start(
          bin('uvicorn', `${module(path)}:${asgi} --host 0.0.0.0 --port "$PORT"`),
          `${path} holds an ASGI program`,
          'uvicorn is among the requirements',
        ),
      ];
    if (has('hypercorn'))
      return [
        start(
          bin('hypercorn', `${module(path)}:${asgi} --bind "0.0.0.0:$PORT"`),
          `${path} holds an ASGI program`,
          'hypercorn is among the requirements',
        ),
      ];
  }
  if (name && !/serve_forever\(|\.run\(/.test(text)) {
    const why = `${path} holds a WSGI program`;
    if (has('gunicorn'))
      return [
        start(
          bin('gunicorn', `--bind "0.0.0.0:$PORT" ${module(path)}:${name}`),
          why,
          'gunicorn is among the requirements',
        ),
      ];
    if (has('waitress'))
      return [
        start(
          bin('waitress', `--listen="0.0.0.0:$PORT" ${module(path)}:${name}`),
          why,
          'waitress is among the requirements',
        ),
      ];
    const code = `import os; from wsgiref.simple_server import make_server; from ${module(path)} import ${name} as app; make_server("0.0.0.0", int(os.environ["PORT"]), app).serve_forever()`;
    return [start(`python3 -c '${code}'`, why, 'no server is among the requirements: that of the standard library')];
  }
  if (name && has('gunicorn'))
    return [
      start(
        bin('gunicorn', `--bind "0.0.0.0:$PORT" ${module(path)}:${name}`),
        `${path} holds a WSGI program`,
        'gunicorn is among the requirements',
      ),
    ];
  if (
    /serve_forever\(|\.run\(|HTTPServer\(|make_server\(|uvicorn\.run|web\.run_app|socketserver/.test(text) &&
    /http|flask|bottle|web|socketserver|wsgiref|uvicorn/i.test(text)
  )
    return [start(`python3 ${word(path)}`, `${path} listens for requests`, `${path} starts a server itself`, true)];
  return [];
}
