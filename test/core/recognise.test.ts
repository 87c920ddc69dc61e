import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { parseDefinition } from '../../src/core/definition/parse';
import type { Answers, Proposal, Tree } from '../../src/core/recognise/model';
import { budget, patience } from '../fuzz/budget';
import { mostTexts, recognise, wantedTexts } from '../../src/core/recognise/recognise';

const tree = (files: Record<string, string>): Tree => {
  const wanted = new Set(wantedTexts(Object.keys(files)));
  return {
    paths: Object.keys(files).sort(),
    texts: new Map(Object.entries(files).filter(([path]) => wanted.has(path))),
  };
};
const look = (files: Record<string, string>, answers: Answers = {}): Proposal => {
  const proposal = recognise(tree(files), answers);
  const { definition, issues } = parseDefinition(proposal.text);
  expect(issues.filter((one) => one.severity === 'error')).toEqual([]);
  expect(definition).not.toBeNull();
  // A reason for each line that says something.
  const told = new Set(proposal.reasons.map((one) => one.line));
  const lines = proposal.text.trimEnd().split('\n');
  for (const [at, text] of lines.entries())
    if (text.trim() !== '' && !/^\s+[\w-]+:$/.test(text)) expect([text, told.has(at + 1)]).toEqual([text, true]);
  return proposal;
};
const definitionOf = (proposal: Proposal) => parseDefinition(proposal.text).definition;
const codes = (proposal: Proposal) => proposal.notes.map((one) => one.code);
const json = (value: unknown) => JSON.stringify(value);

const nodeServer =
  "import { createServer } from 'node:http';\ncreateServer((a, b) => b.end('x')).listen(process.env.PORT);\n";

describe('what programs keep elsewhere', () => {
  const api = (more: object, source = '') => ({
    'package.json': json({ scripts: { start: 'node api.js', migrate: 'node migrate.js' }, ...more }),
    'package-lock.json': json({ lockfileVersion: 3, packages: {} }),
    'api.js': `${nodeServer}${source}`,
  });

  it('is a database, wired and migrated, where package, variable and script are there', () => {
    const proposal = look(api({ dependencies: { pg: '8' } }, 'connect(process.env.DATABASE_URL);\n'));
    expect(definitionOf(proposal)?.release).toMatchObject({
      resources: { db: { kind: 'postgres' } },
      variables: { DATABASE_URL: { kind: 'resource', resource: 'db', field: 'url' } },
      prepare: { part: 'web', run: 'npm run migrate' },
    });
    expect(codes(proposal)).toEqual([]);
  });

  it('is proposed only as far as it can be read off', () => {
    const none = look(api({ dependencies: { pg: '8' } }));
    expect(definitionOf(none)?.release?.resources).toEqual({});
    const plain = look({
      'requirements.txt': 'flask\npsycopg2-binary==2.9\n',
      'app.py':
        "import os\nfrom flask import Flask\napp = Flask(__name__)\nURL = os.environ['DATABASE_URL']\napp.run(port=int(os.environ['PORT']))\n",
    });
    expect(definitionOf(plain)?.release).toMatchObject({ resources: { db: { kind: 'postgres' } } });
    expect(definitionOf(plain)?.release?.prepare ?? null).toBeNull();
  });

  it('is said where it cannot be declared, and where it has no place', () => {
    const proposal = look(
      api(
        { dependencies: { ioredis: '5', mysql2: '3', multer: '1' } },
        "mkdirSync('./uploads', { recursive: true });\n",
      ),
    );
    expect(codes(proposal)).toEqual(['recognise_store', 'recognise_store', 'recognise_uploads']);
    expect(proposal.notes.map(({ data }) => data.store ?? data.folder)).toEqual([
      'Redis',
      'MySQL or MariaDB',
      'uploads',
    ]);
    // A tool of the developer alone says nothing of the programs.
    expect(codes(look(api({ devDependencies: { ioredis: '5' } })))).toEqual([]);
  });
});

describe('Node with npm', () => {
  it('is recognised by its scripts, engines and lock file', () => {
    const proposal = look({
      'package.json': json({
        engines: { node: '>=20 <23' },
        scripts: { start: 'node src/api.js', test: 'node --test', lint: 'eslint .', worker: 'node src/caller.js' },
        dependencies: { pg: '8' },
      }),
      'package-lock.json': json({ lockfileVersion: 3, packages: { '': {}, 'node_modules/pg': {} } }),
      'src/api.js': `${nodeServer}const level = process.env.LOG_LEVEL ?? 'info'; const key = process.env.SMS_KEY; // GET '/api/ready'\nif (url === '/api/ready') {}\n`,
      'src/caller.js': 'setInterval(() => process.env.TIMETABLE_URL, 1000)',
    });
    expect(proposal.found).toEqual([{ what: 'Node with npm', folder: '', why: 'there is a package.json' }]);
    expect(proposal.questions).toEqual([]);
    expect(proposal.notes).toEqual([]);
    const definition = definitionOf(proposal);
    expect(definition?.tools).toEqual({ node: '>=20 <23' });
    expect(Object.keys(definition?.tasks ?? {})).toEqual(['deps', 'lint', 'unit']);
    expect(definition?.tasks.deps).toMatchObject({
      run: ['npm ci'],
      reads: ['package.json', 'package-lock.json'],
      network: true,
      makes: ['node_modules'],
    });
    expect(definition?.tasks.unit?.needs).toEqual(['deps']);
    expect(definition?.release).toMatchObject({
      needs: ['lint', 'unit'],
      parts: {
        web: { kind: 'server', start: 'node src/api.js', needs: ['deps'], at: '/', ready: '/api/ready' },
        worker: { kind: 'worker', start: 'node src/caller.js' },
      },
      variables: {
        LOG_LEVEL: { kind: 'set', default: 'info' },
        SMS_KEY: { kind: 'set', secret: true, default: null },
        TIMETABLE_URL: { kind: 'set', default: null },
      },
    });
    expect(Object.keys(definition?.environments ?? {})).toEqual(['review', 'staging', 'production']);
  });

  it('keeps the folders in which common build tools keep their own caches', () => {
    const tasks = (scripts: Record<string, string>, packages: string[]) =>
      definitionOf(
        look({
          'package.json': json({ scripts, devDependencies: Object.fromEntries(packages.map((name) => [name, '1'])) }),
          'package-lock.json': json({ packages: { '': {}, 'node_modules/x': {} } }),
          'index.html': '<h1>x</h1>',
        }),
      )?.tasks;
    const vite = tasks({ build: 'vite build', test: 'vitest run', lint: 'eslint .' }, ['vite', 'vitest', 'eslint']);
    expect([vite?.build?.cache, vite?.unit?.cache, vite?.lint?.cache]).toEqual([
      ['node_modules/.vite'],
      ['node_modules/.vite'],
      [],
    ]);
    expect(tasks({ build: 'webpack' }, [])?.build?.cache).toEqual([]);
    expect(tasks({ build: 'webpack' }, ['webpack'])?.build?.cache).toEqual(['node_modules/.cache']);
    // What a task makes is no cache of it.
    expect(tasks({ build: 'next build' }, ['next'])?.build).toMatchObject({ makes: ['.next'], cache: [] });
  });

  it('has no `deps` where there is nothing to install, and is told where a lock file is missing', () => {
    expect(
      Object.keys(
        definitionOf(
          look({ 'package.json': '{}', 'package-lock.json': json({ packages: { '': {} } }), 'server.js': nodeServer }),
        )?.tasks ?? {},
      ),
    ).toEqual([]);
    const missing = look({ 'package.json': json({ dependencies: { pg: '8' } }), 'server.js': nodeServer });
    expect(codes(missing)).toEqual(['recognise_no_lock']);
    expect(definitionOf(missing)?.release?.parts.web?.needs).toEqual([]);
  });

  it('is warned of a port of its own, and of one address alone', () => {
    const proposal = look({
      'package.json': '{}',
      'server.js': "import http from 'http';\nhttp.createServer(() => {}).listen(8000, '127.0.0.1');\n",
    });
    expect(proposal.notes).toEqual([
      { code: 'recognise_port', data: { file: 'server.js', port: 8000, variable: 'process.env.PORT' } },
      { code: 'recognise_address', data: { file: 'server.js', address: '127.0.0.1' } },
    ]);
    expect(
      codes(look({ 'package.json': '{}', 'server.js': 'http.createServer(f).listen(process.env.PORT ?? 8000);\n' })),
    ).toEqual([]);
  });

  it('asks what starts it where several could, the likeliest first, and takes the answer', () => {
    const files = {
      'package.json': '{}',
      'tools/mock.js': nodeServer,
      'app.js': nodeServer,
      'server.js': nodeServer,
      'test/server.js': nodeServer,
    };
    const [question] = look(files).questions;
    expect(question).toMatchObject({ id: 'start', given: false, answer: 'node server.js' });
    expect(question?.answers.map((one) => one.value)).toEqual(['node server.js', 'node app.js', 'node tools/mock.js']);
    expect(definitionOf(look(files, { start: 'node app.js' }))?.release?.parts.web?.start).toBe('node app.js');
    expect(definitionOf(look(files, { start: 'node other.js --port "$PORT"' }))?.release?.parts.web?.start).toBe(
      'node other.js --port "$PORT"',
    );
    expect(definitionOf(look(files, { start: 'none' }))?.release).toBeNull();
  });

  it('asks what starts it where nothing seems to', () => {
    const proposal = look({
      'package.json': json({ scripts: { test: 'echo "Error: no test specified" && exit 1' } }),
      'lib.js': 'export const price = 1;\n',
    });
    expect(proposal.questions[0]).toMatchObject({ id: 'start', answer: 'none' });
    expect(codes(proposal)).toEqual(['recognise_nothing']);
    expect(definitionOf(proposal)).toMatchObject({ tasks: {}, release: null });
  });

  it('serves what its build writes, and asks for the folder where nobody says it', () => {
    const lock = json({ packages: { '': {}, 'node_modules/vite': {} } });
    const pages = look({
      'package.json': json({ scripts: { build: 'vite build' }, devDependencies: { vite: '8' } }),
      'package-lock.json': lock,
      'index.html': '<p>',
    });
    expect(definitionOf(pages)).toMatchObject({
      tasks: { build: { makes: ['dist'], needs: ['deps'] } },
      release: { parts: { site: { kind: 'site', root: 'dist', needs: ['build'] } } },
    });
    expect(pages.questions).toEqual([]);
    const unsaid = look({ 'package.json': json({ scripts: { build: 'node make.js' } }), 'index.html': '<p>' });
    expect(unsaid.questions[0]).toMatchObject({ id: 'output', answer: 'dist' });
    expect(
      definitionOf(
        look({ 'package.json': json({ scripts: { build: 'node make.js' } }), 'index.html': '<p>' }, { output: 'out' }),
      )?.release?.parts.site?.root,
    ).toBe('out');
    const typed = look({
      'package.json': json({ scripts: { build: 'tsc', start: 'node lib/main.js' } }),
      'tsconfig.json': json({ compilerOptions: { outDir: './lib' } }),
    });
    expect(definitionOf(typed)).toMatchObject({
      tasks: { build: { makes: ['lib'] } },
      release: { parts: { web: { needs: ['build'], start: 'node lib/main.js' } } },
    });
  });

  it('keeps npm around a start that is more than one program', () => {
    const proposal = look({
      'package.json': json({ scripts: { start: 'NODE_ENV=production node server.js && echo done' } }),
      'server.js': nodeServer,
    });
    expect(definitionOf(proposal)?.release?.parts.web?.start).toBe('npm start');
  });

  it('takes values from an example of a dotenv file, and warns of a real one', () => {
    const proposal = look({
      'package.json': '{}',
      'server.js': `${nodeServer}process.env.REGION`,
      '.env.example': 'REGION=north\nAPI_TOKEN=x\n',
      '.env': 'API_TOKEN=real',
    });
    expect(definitionOf(proposal)?.release?.variables).toMatchObject({
      REGION: { default: 'north' },
      API_TOKEN: { secret: true, default: null },
    });
    expect(codes(proposal)).toEqual(['recognise_dotenv']);
    expect(proposal.text).not.toContain('real');
  });
});

describe('Python', () => {
  it('is recognised with a WSGI program of the standard library, and its tests', () => {
    const proposal = look({
      'app.py':
        "import os\ndef application(environ, start_response):\n    os.environ.get('REGION', 'north')\n    return [b'x']\n",
      'tests/__init__.py': '',
      'tests/test_app.py': 'import unittest\n',
    });
    expect(definitionOf(proposal)).toMatchObject({
      tools: { python: '>=3.9' },
      tasks: { unit: { run: ['python3 -m unittest discover --start-directory tests --top-level-directory .'] } },
      release: { needs: ['unit'], parts: { web: { kind: 'server' } }, variables: { REGION: { default: 'north' } } },
    });
    expect(definitionOf(proposal)?.release?.parts.web?.start).toContain('from app import application as app');
    expect(proposal.questions).toEqual([]);
  });

  it.each([
    [
      'gunicorn',
      'flask\ngunicorn==22\n',
      'from flask import Flask\napp = Flask(__name__)\n',
      'python3 -m gunicorn --bind "0.0.0.0:$PORT" app:app',
    ],
    [
      'uvicorn',
      'fastapi>=0.1 # x\nuvicorn[standard]\n',
      'from fastapi import FastAPI\nservice = FastAPI()\n',
      'python3 -m uvicorn app:service --host 0.0.0.0 --port "$PORT"',
    ],
    [
      'waitress',
      'bottle\nwaitress\n',
      'import bottle\napp = Bottle()\n',
      'python3 -m waitress --listen="0.0.0.0:$PORT" app:app',
    ],
  ])('is started with %s when that is among the requirements', (_name, requirements, source, start) => {
    const definition = definitionOf(look({ 'requirements.txt': requirements, 'app.py': source }));
    expect(definition?.release?.parts.web?.start).toBe(start);
    expect(definition?.tasks.deps).toMatchObject({ network: true, makes: ['.packages'] });
    expect(definition?.release?.variables.PYTHONPATH).toEqual({ kind: 'literal', value: '/project/.packages' });
  });

  it('says that an asynchronous program needs a server, and what version pyproject.toml wants', () => {
    const proposal = look({
      'pyproject.toml':
        '[project]\nname = "x"\nrequires-python = ">=3.11,<4"\ndependencies = ["fastapi"]\n[tool.pytest.ini_options]\n',
      'main.py': 'app = FastAPI()\n',
      'test_main.py': '',
    });
    expect(codes(proposal)).toEqual(['recognise_no_lock', 'recognise_server_missing']);
    expect(definitionOf(proposal)).toMatchObject({
      tools: { python: '>=3.11 <4' },
      tasks: { unit: { results: 'results.xml' } },
      release: null,
    });
  });

  it('that starts a server itself is run as it stands, and warned of its port', () => {
    const proposal = look({
      'serve.py': "from http.server import HTTPServer\nHTTPServer(('127.0.0.1', 8000), H).serve_forever()\n",
    });
    expect(definitionOf(proposal)?.release?.parts.web?.start).toBe('python3 serve.py');
    expect(codes(proposal)).toEqual(['recognise_port', 'recognise_address']);
  });

  it('of Django is started by its manage.py', () => {
    const proposal = look({
      'requirements.txt': 'django\n',
      'manage.py': "os.environ.setdefault('DJANGO_SETTINGS_MODULE', 'region.settings')\nfrom django.core import x\n",
    });
    expect(definitionOf(proposal)?.release?.parts.web?.start).toBe(
      'python3 manage.py runserver --noreload "0.0.0.0:$PORT"',
    );
  });
});

describe('Java', () => {
  it('is compiled and started by the class that serves', () => {
    const proposal = look({
      'src/kohama/Price.java': 'package kohama;\nclass Price { public static void main(String[] a) {} }\n',
      'src/kohama/Board.java':
        'package kohama;\nimport com.sun.net.httpserver.HttpServer;\npublic class Board { public static void main(String[] args) { HttpServer.create(new InetSocketAddress(8080), 0); System.getenv("REGION"); } }\n',
    });
    const definition = definitionOf(proposal);
    expect(definition?.tasks.build).toMatchObject({
      run: ["find src -name '*.java' -print0 | sort -z | xargs -0 javac -d classes"],
      makes: ['classes'],
    });
    expect(definition?.release?.parts.web).toMatchObject({ start: 'exec java -cp classes kohama.Board', files: [] });
    expect(proposal.questions[0]?.answers.map((one) => one.value)).toEqual([
      'exec java -cp classes kohama.Board',
      'exec java -cp classes kohama.Price',
    ]);
    expect(proposal.notes).toEqual([
      {
        code: 'recognise_port',
        data: { file: 'src/kohama/Board.java', port: 8080, variable: 'System.getenv("PORT")' },
      },
    ]);
    expect(definition?.release?.variables).toMatchObject({ REGION: { kind: 'set' } });
  });

  it('with Maven names the file that it writes', () => {
    const pom = (more = '') =>
      `<?xml version="1.0"?><project><artifactId>board</artifactId><version>1.2</version><properties><maven.compiler.release>21</maven.compiler.release></properties><dependencies><dependency><artifactId>x</artifactId><version>9</version></dependency></dependencies>${more}</project>`;
    expect(definitionOf(look({ 'pom.xml': pom(), 'src/main/java/A.java': 'class A {}' }))).toMatchObject({
      tools: { java: '>=21', maven: '>=3' },
      tasks: { build: { makes: ['target/board-1.2.jar'], network: true } },
      release: { parts: { web: { start: 'exec java -jar target/board-1.2.jar' } } },
    });
    expect(
      definitionOf(look({ 'pom.xml': pom('<build><finalName>shop</finalName></build>') }))?.tasks.build?.makes,
    ).toEqual(['target/shop.jar']);
    expect(codes(look({ 'pom.xml': '<project><packaging>war</packaging>' }))).toEqual(['recognise_artifact']);
  });
});

describe('pages', () => {
  it('of the root are served without what is for developers', () => {
    const definition = definitionOf(
      look({
        'index.html': '<p>',
        'style.css': '',
        'img/a.png': '',
        'README.md': '',
        'tsunagi.yaml': '',
        '.gitignore': '',
      }),
    );
    expect(definition?.release?.parts.site).toMatchObject({
      kind: 'site',
      root: '',
      files: ['img/', 'index.html', 'style.css'],
    });
  });

  it('of a folder are served from there', () => {
    expect(
      definitionOf(look({ 'public/index.html': '<p>', 'public/a.css': '', 'README.md': '' }))?.release?.parts.site,
    ).toMatchObject({
      root: 'public',
      files: ['public/'],
    });
  });

  it('beside a server that answers below /api', () => {
    const definition = definitionOf(
      look({
        'package.json': '{}',
        'server.js': `${nodeServer}if (url.startsWith('/api/')) {}`,
        'web/index.html': '<p>',
      }),
    );
    expect(definition?.release?.parts).toMatchObject({
      site: { root: 'web', at: '/' },
      api: { kind: 'server', at: '/api', start: 'node server.js' },
    });
  });

  it('that a server serves itself are left to it', () => {
    const definition = definitionOf(
      look({
        'package.json': '{}',
        'server.js': `${nodeServer}readFile('public/index.html'); '/api'`,
        'public/index.html': '<p>',
      }),
    );
    expect(Object.keys(definition?.release?.parts ?? {})).toEqual(['web']);
  });
});

describe('a larger repository', () => {
  const two = {
    'README.md': '',
    'api/package.json': json({ scripts: { start: 'node server.js', test: 'node --test' }, dependencies: { pg: '8' } }),
    'api/package-lock.json': json({ packages: { '': {}, 'node_modules/pg': {} } }),
    'api/server.js': `${nodeServer}'/api/x'`,
    'web/index.html': '<p>',
    'web/style.css': '',
  };
  it('with a server in one folder and pages in another makes one project of both', () => {
    const proposal = look(two);
    const definition = definitionOf(proposal);
    expect(definition?.release?.parts).toMatchObject({
      site: { kind: 'site', root: 'web', at: '/', files: ['web/index.html', 'web/style.css'] },
      api: { kind: 'server', at: '/api', start: 'cd api && exec node server.js', files: ['api/'], needs: ['api-deps'] },
    });
    expect(definition?.tasks['api-deps']).toMatchObject({
      run: ['cd api && npm ci'],
      makes: ['api/node_modules'],
      reads: ['api/package.json', 'api/package-lock.json'],
      cache: ['~/.npm'],
    });
    expect(definition?.tasks['api-unit']).toMatchObject({
      run: ['cd api && npm test'],
      needs: ['api-deps'],
      reads: ['api/'],
    });
    expect(definition?.release?.needs).toEqual(['api-unit']);
    expect(proposal.questions.map((one) => [one.id, one.answer])).toEqual([['folder', '.']]);
  });

  it('is asked for its folder, and looked at there', () => {
    const files = {
      ...two,
      'tools/board/package.json': json({ scripts: { start: 'node board.js' } }),
      'tools/board/board.js': nodeServer,
    };
    const proposal = look(files);
    expect(proposal.questions[0]?.answers.map((one) => one.value)).toEqual(['api', 'tools/board', 'web']);
    expect(proposal.found[0]?.folder).toBe('api');
    const chosen = look(files, { folder: 'tools/board' });
    expect(definitionOf(chosen)?.release?.parts.web?.start).toBe('node board.js');
    expect(chosen.found[0]?.folder).toBe('tools/board');
  });
});

describe('any tree', () => {
  it('that is empty is told so', () => {
    const proposal = look({});
    expect([proposal.found, codes(proposal)]).toEqual([[], ['recognise_nothing']]);
  });

  it('with a server and a built site for one address keeps what leads', () => {
    const proposal = look(
      {
        'package.json': json({ scripts: { start: 'x', build: 'vite build -o out' }, devDependencies: { vite: '1' } }),
        'pom.xml': '<project><artifactId>shop</artifactId><version>1</version></project>',
      },
      { start: 'none' },
    );
    expect(Object.keys(definitionOf(proposal)?.release?.parts ?? {})).toEqual(['web']);
  });

  it('with a server that has pages, and other pages beside it, is not taken for one of both', () => {
    const site = json({ scripts: { start: 'x', build: 'vite build -o out' }, devDependencies: { vite: '1' } });
    expect(look({ 'a/package.json': site, 'b/index.html': '' }).questions[0]?.id).toBe('folder');
  });

  it.each(['- +', '12', '1e3', '.5', '!/', 'a: b', '- a', 'null', "it's"])('takes %j as it was answered', (text) => {
    const started = look({ 'app.py': 'app = Flask(__name__)\n' }, { start: text });
    expect(definitionOf(started)?.release?.parts.web?.start).toBe(text);
    const built = look({ 'package.json': json({ scripts: { build: 'b' } }), 'index.html': '' }, { output: text });
    expect(definitionOf(built)?.tasks.build?.makes).toEqual([text.replace(/\/$/, '')]);
  });

  it(
    'gives a definition that is valid as it stands, whatever its files say',
    () => {
      const path = fc.constantFrom(
        'package.json',
        'package-lock.json',
        'server.js',
        'src/index.mjs',
        "odd 'name'.js",
        'web/index.html',
        'index.html',
        'app.py',
        'requirements.txt',
        'pyproject.toml',
        'pom.xml',
        'src/Main.java',
        'a/package.json',
        'a/server.js',
        'b/index.html',
        'tests/test_x.py',
        'manage.py',
        '.env.example',
        'tsconfig.json',
        'deep/er/app.py',
        'lib/x.jar',
        '.nvmrc',
      );
      const text = fc.oneof(
        fc.string(),
        fc.constantFrom(
          nodeServer,
          "app.listen(3000, 'localhost'); '/api'; process.env.A_KEY || 'it''s'",
          '{"scripts":{"start":"x: y","build":"vite build -o a b","test":"t","lint":"l","worker:mail":"w"},"devDependencies":{"vite":"1"},"engines":{"node":"#"}}',
          '{"packages":{"a":{}}}',
          'app = Flask(__name__)',
          'application = get_wsgi_application()\nos.environ["B"]',
          'django.settings',
          'gunicorn\nflask',
          'A=1\nB="x: # y"\n',
          '<project><artifactId>a: b</artifactId><version>1</version></project>',
          'package a.b; class M { public static void main(String[] a) { new ServerSocket(80); } }',
          '[project]\nrequires-python = "~=3.9"',
          '{"main":"./server.js"}',
          'v20',
        ),
      );
      const answers = fc.dictionary(
        fc.constantFrom('start', 'folder', 'output'),
        fc.oneof(fc.string(), fc.constantFrom('none', 'a', '.', 'node "x": #')),
      );
      fc.assert(
        fc.property(fc.dictionary(path, text), answers, (files, given) => void look(files, given)),
        budget,
      );
    },
    patience,
  );

  it('of 50,000 files is looked at through a few hundred texts', () => {
    const paths = Array.from({ length: 50_000 }, (_, at) => `src/part${at % 500}/file${at}.js`);
    expect(wantedTexts(['package.json', ...paths])).toHaveLength(mostTexts);
    expect(wantedTexts([...paths, 'package.json', 'server.js']).slice(0, 2)).toEqual(['package.json', 'server.js']);
  });
});
