/** Java, built by the compiler itself, or by Maven (proposed only: its file names what it makes). */
import { SaxesParser } from 'saxes';
import { issue } from '../errors/errors.js';
import { list, namedPort, own, readyPath, scalar, word } from './look.js';
import { type Answers, type Findings, line, nothing, question, type Tree } from './model.js';
import { environmentVariables } from './variables.js';

const source = /\.java$/;
const test = /(^|\/)(src\/test|tests?)\/|Test\.java$/;

export const javaTexts = (path: string): boolean =>
  own(path) && (source.test(path) || /(^|\/)(pom\.xml|build\.gradle(\.kts)?)$/.test(path));

const javaVariable = /System\.getenv\(\s*"([A-Z][A-Z0-9_]*)"()\s*\)/g;

export function lookAtJava(tree: Tree, answers: Answers): Findings | null {
  const pom = tree.texts.get('pom.xml');
  const sources = [...tree.texts].filter(([path]) => source.test(path) && !test.test(path));
  const gradle = tree.paths.find((path) => /^build\.gradle(\.kts)?$/.test(path));
  if (!pom && sources.length === 0) return null;
  const found = nothing(pom ? 'Java with Maven' : 'Java', pom ? 'there is a pom.xml' : `${sources[0]?.[0]} is Java`);
  if (gradle && !pom) {
    found.notes.push(issue('recognise_tool', { tool: gradle }));
    return found;
  }
  const start = pom ? maven(found, pom) : compiled(tree, found, sources, answers);
  if (!start) return found;
  const all = sources.map(([, text]) => text).join('\n');
  const ready = readyPath(all);
  found.parts.push({
    name: 'web',
    kind: 'server',
    at: '/',
    lines: [
      line('kind: server', start.why),
      line(`needs: ${list(['build'])}`, 'its files are what `build` makes'),
      line(
        pom ? 'files: []' : `files: ${list(tree.paths.some((path) => /^lib\/[^/]+\.jar$/.test(path)) ? ['lib/'] : [])}`,
        pom || !tree.paths.some((path) => path.startsWith('lib/'))
          ? 'its sources are not needed to run it'
          : 'the libraries it runs with',
      ),
      line(`start: ${scalar(start.command)}`, start.how),
      ...(ready ? [line(`ready: ${ready}`, `its source answers ${ready}`)] : []),
    ],
  });
  found.variables.push(...environmentVariables(tree, sources, javaVariable));
  const entry =
    sources.find(([path]) => path === start.file) ??
    sources.find(([, text]) => /ServerSocket|HttpServer|\.listen\(|InetSocketAddress/.test(text));
  if (entry && !/getenv\(\s*"PORT"|server\.port\s*=\s*\$\{PORT/.test(all)) {
    const port = namedPort(
      entry[1],
      /InetSocketAddress\(\s*(?:"[^"]*"\s*,\s*)?(\d{2,5})\s*\)|ServerSocket\(\s*(\d{2,5})|[Pp]ort\s*=\s*(\d{2,5})\b/,
    );
    if (port) found.notes.push(issue('recognise_port', { file: entry[0], port, variable: 'System.getenv("PORT")' }));
  }
  const address =
    /InetSocketAddress\(\s*"(127\.0\.0\.1|localhost)"/.exec(entry?.[1] ?? '')?.[1] ??
    (/getLoopbackAddress\(\)/.test(entry?.[1] ?? '') ? 'the loopback address' : null);
  if (address && entry) found.notes.push(issue('recognise_address', { file: entry[0], address }));
  return found;
}

interface Start {
  command: string;
  why: string;
  how: string;
  file: string;
}

function compiled(tree: Tree, found: Findings, sources: (readonly [string, string])[], answers: Answers): Start | null {
  found.tools.push({ tool: 'java', range: '>=17', why: 'no version is named; any from 17 on' });
  const root = sources.every(([path]) => path.startsWith('src/main/java/'))
    ? 'src/main/java'
    : sources.every(([path]) => path.startsWith('src/'))
      ? 'src'
      : null;
  const libraries = tree.paths.some((path) => /^lib\/[^/]+\.jar$/.test(path));
  const where = root ?? '.';
  const without = root ? '' : " -not -path '*/test/*' -not -path '*/tests/*' -not -path './classes/*'";
  found.tasks.push({
    name: 'build',
    lines: [
      line(
        `run: ${scalar(`find ${where} -name '*.java'${without} -print0 | sort -z | xargs -0 javac -d classes${libraries ? " -cp 'lib/*'" : ''}`)}`,
        `${sources.length === 1 ? sources[0]?.[0] : `the ${sources.length} sources`} ${sources.length === 1 ? 'is' : 'are'} compiled`,
      ),
      line('makes: [classes/]', 'what the compiler writes'),
    ],
  });
  const mains = sources
    .filter(([, text]) => /\bstatic\s+(?:final\s+)?void\s+main\s*\(/.test(text))
    .sort(([, a], [, b]) => Number(serves(b)) - Number(serves(a)));
  const starts = mains.map(([path, text]) => {
    const name = [/^\s*package\s+([\w.]+)\s*;/m.exec(text)?.[1], path.split('/').at(-1)?.replace(source, '')]
      .filter(Boolean)
      .join('.');
    return {
      command: `exec java -cp ${libraries ? "'classes:lib/*'" : 'classes'} ${word(name)}`,
      why: serves(text) ? `${path} listens for requests` : `${path} has a main method`,
      how: `${path} has a main method`,
      file: path,
    };
  });
  const choices = starts.map((one) => ({ value: one.command, why: one.why }));
  const asked = question(
    'start',
    'Which command starts the server?',
    choices.length ? choices : [{ value: 'none', why: 'no source has a main method' }],
    answers,
  );
  if (choices.length !== 1 || asked.given) found.questions.push(asked);
  if (asked.given && !choices.some((one) => one.value === asked.answer))
    return asked.answer === 'none' ? null : { command: asked.answer, why: 'you said so', how: 'you said so', file: '' };
  return starts.find((one) => one.command === asked.answer) ?? null;
}

const serves = (text: string): boolean => /ServerSocket|HttpServer|com\.sun\.net\.httpserver|\.listen\(/.test(text);

/** What pom.xml says of itself: names directly below `project`, and properties. */
function readPom(text: string): Record<string, string> {
  const facts: Record<string, string> = {};
  const path: string[] = [];
  const parser = new SaxesParser();
  let value = '';
  parser.on('opentag', ({ name }) => {
    path.push(name);
    value = '';
  });
  parser.on('text', (piece) => {
    value += piece;
  });
  parser.on('closetag', () => {
    const key = path.slice(1).join('.');
    if (value.trim() && facts[key] === undefined) facts[key] = value.trim();
    value = '';
    path.pop();
  });
  parser.on('error', () => {});
  try {
    parser.write(text).close();
  } catch {
    // What was read until here is what there is.
  }
  return facts;
}

function maven(found: Findings, text: string): Start | null {
  const pom = readPom(text);
  const filled = (value: string | undefined) =>
    value?.replace(
      /\$\{([\w.-]+)\}/g,
      (_, key: string) => pom[`properties.${key}`] ?? pom[key.replace(/^project\./, '')] ?? '',
    );
  const release = filled(
    pom['properties.maven.compiler.release'] ??
      pom['properties.java.version'] ??
      pom['properties.maven.compiler.source'],
  )?.replace(/^1\./, '');
  found.tools.push(
    release && /^\d+$/.test(release)
      ? { tool: 'java', range: `>=${release}`, why: 'pom.xml compiles for it' }
      : { tool: 'java', range: '>=17', why: 'no version is named; any from 17 on' },
    { tool: 'maven', range: '>=3', why: 'Maven builds it' },
  );
  const artifact = filled(pom.artifactId);
  const version = filled(pom.version ?? pom['parent.version']);
  const name = filled(pom['build.finalName']) || (artifact && version ? `${artifact}-${version}` : null);
  const usable = name && /^[\w.-]+$/.test(name) && (pom.packaging ?? 'jar') === 'jar';
  if (!usable) found.notes.push(issue('recognise_artifact'));
  const file = `target/${usable ? name : 'app'}.jar`;
  found.tasks.push({
    name: 'build',
    lines: [
      line('run: mvn --batch-mode --no-transfer-progress package', 'Maven compiles, tests and packs it'),
      line(
        `makes: ${list([file])}`,
        usable ? 'artifactId and version of pom.xml' : 'a guess: say which file Maven writes',
      ),
      line('cache: [~/.m2/]', 'what Maven has fetched is kept'),
      line('network: true', 'Maven fetches libraries'),
    ],
  });
  return {
    command: `exec java -jar ${word(file)}`,
    why: 'it is packed as one file that can be run',
    how: 'the file that Maven writes',
    file: '',
  };
}
