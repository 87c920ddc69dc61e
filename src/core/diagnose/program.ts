/**
 * Why a program failed, from what it printed last and what it was given: cause, evidence (the line that says so) and remedy as data.
 * Every rule names the words of the tools that it knows; where none fits, nothing is guessed.
 */
import { issue, type Issue } from '../errors/errors.js';
import { nearest } from '../nearest.js';

export interface ProgramFacts {
  /** What failed, in words: `The command \`npm test\``, `api`. */
  what: string;
  command: string;
  exit: number;
  lastLines: readonly string[];
  /** Names of the variables that it was given. */
  variables: readonly string[];
  /** Tool → exact version. */
  tools: Readonly<Record<string, string>>;
  /** Files that it saw, as far as they are known, relative to the project's folder. */
  files: readonly string[];
  /** Whether it could reach the outside. */
  network: boolean;
  /** The text of a file of the project; null where it is not text, or not there. Left out: files cannot be read. */
  textOf?: (path: string) => string | null;
}

type Rule = (facts: ProgramFacts, lines: string[]) => Issue | null;

/** The first line that a pattern finds, from the end, with what it found. */
function find(lines: readonly string[], pattern: RegExp): { line: string; found: RegExpExecArray } | null {
  for (let at = lines.length - 1; at >= 0; at--) {
    const line = lines[at] as string;
    const found = pattern.exec(line);
    if (found) return { line: line.trim().slice(0, 300), found };
  }
  return null;
}

const scriptMissing: Rule = ({ what, command }, lines) => {
  const hit = find(lines, /Missing script: "?([\w:.-]+)"?/);
  return hit && issue('start_script_missing', { what, command, script: hit.found[1], line: hit.line });
};

const toolVersion: Rule = ({ what, tools }, lines) => {
  const node = find(
    lines,
    /(?:EBADENGINE|Unsupported engine|engine "node" is incompatible|requires (?:a )?node(?:\.js)?(?: version)?|Node\.js version)\D{0,60}?((?:[<>=^~]+ ?)?v?\d+(?:\.\d+)*(?:\.x)?)/i,
  );
  const wanted = /[Rr]equired: *\{ ?"?node"?: ?['"]([^'"]+)['"]/.exec(lines.join('\n'))?.[1];
  if (node || wanted)
    return issue('tool_version', {
      what,
      tool: 'node',
      wants: (wanted ?? node?.found[1] ?? '').replace(/^v/, ''),
      has: tools.node ?? '?',
      line: node?.line ?? '',
    });
  const python = find(
    lines,
    /requires(?: a different)? [Pp]ython:? ?(?:\S+ not in '([^']+)'|([<>=~!]+ ?\d+(?:\.\d+)*))/,
  );
  if (python)
    return issue('tool_version', {
      what,
      tool: 'python',
      wants: python.found[1] ?? python.found[2],
      has: tools.python ?? '?',
      line: python.line,
    });
  const java = find(lines, /UnsupportedClassVersionError.*class file version (\d+)/);
  // JVM specification, table 4.1-A: version 44 + n is Java n.
  if (java)
    return issue('tool_version', {
      what,
      tool: 'java',
      wants: `>=${Number(java.found[1]) - 44}`,
      has: tools.java ?? '?',
      line: java.line,
    });
  return null;
};

const variableMissing: Rule = ({ what, variables }, lines) => {
  const patterns = [
    /\b([A-Z][A-Z0-9_]{2,})\b(?: environment variable)? (?:is|was|must be|has to be)(?: not)? ?(?:set|defined|provided|required|missing|undefined|empty)/,
    /(?:[Mm]issing|[Rr]equired|[Uu]ndefined|[Nn]o)(?: required)?(?: env(?:ironment)?)?(?: variables?)?:? ["'`]?([A-Z][A-Z0-9_]{2,})\b/,
    /KeyError: '([A-Z][A-Z0-9_]{2,})'/,
    /\b([A-Z][A-Z0-9_]{2,}): (?:unbound variable|parameter (?:null or )?not set)/,
    /[Ee]nvironment variable ["'`]?([A-Z][A-Z0-9_]{2,})["'`]?/,
  ];
  for (const pattern of patterns) {
    const hit = find(lines, pattern);
    const name = hit?.found[1];
    if (
      hit &&
      name &&
      !variables.includes(name) &&
      !/^(ERROR|WARN|INFO|DEBUG|HTTP|JSON|NULL|TRUE|FALSE|ENOENT|EACCES)$/.test(name)
    )
      return issue('variable_missing', { what, name, line: hit.line });
  }
  return null;
};

const near = (name: string, names: readonly string[]): string => {
  const found = nearest(name, names);
  return found && found !== name ? ` Did you mean ${found}?` : '';
};

const inProject = (path: string): string =>
  path
    .replace(/^file:\/\//, '')
    .replace(/^\/project\//, '')
    .replace(/^\.\//, '');

const missing: Rule = ({ what, files, command }, lines) => {
  const bare = find(lines, /Cannot find (?:module|package) '((?:@[\w.-]+\/)?[\w.-]+)'/);
  const own = (path: string) =>
    inProject(path).split('/').length > 0 && !path.startsWith('/usr') && !path.startsWith('/etc');
  if (bare && !files.includes(bare.found[1] ?? ''))
    return issue('package_missing', { what, name: bare.found[1], file: 'package.json', line: bare.line });
  const python = find(lines, /ModuleNotFoundError: No module named '([\w.]+)'/);
  if (python) {
    const name = (python.found[1] as string).split('.')[0] as string;
    const file = `${(python.found[1] as string).replaceAll('.', '/')}.py`;
    const close = nearest(file, files);
    if (close) return issue('file_missing', { what, path: file, near: ` Did you mean ${close}?`, line: python.line });
    return issue('package_missing', { what, name, file: 'requirements.txt', line: python.line });
  }
  const java = find(lines, /Could not find or load main class ([\w.$]+)/);
  if (java) {
    const path = `${(java.found[1] as string).replaceAll('.', '/')}.class`;
    return issue('file_missing', {
      what,
      path,
      near: near(
        path.split('/').at(-1) as string,
        files.map((file) => file.split('/').at(-1) as string),
      ),
      line: java.line,
    });
  }
  const noCommand =
    find(lines, /(?:^|: )([\w./@+-]+): (?:command not found|not found)$/) ??
    find(lines, /(?:^|: )([\w./@+-]+): No such file or directory$/);
  if (noCommand && /command not found|not found$/.test(noCommand.line)) {
    const name = noCommand.found[1] as string;
    return issue('command_missing', { what, name, near: near(name, usualCommands), line: noCommand.line });
  }
  const file =
    find(lines, /Cannot find module '([^']+)'/) ??
    find(lines, /ENOENT: no such file or directory, \w+ '([^']+)'/) ??
    find(lines, /can't open file '([^']+)'/) ??
    find(lines, /FileNotFoundError: \[Errno 2\] No such file or directory: '([^']+)'/) ??
    find(lines, /(?:NoSuchFileException|FileNotFoundException): (\S+)/) ??
    find(lines, /Could not (?:open|read|find)(?: file)?:? ['"]?([\w./-]+\.\w+)/) ??
    find(lines, /^(?:\S+: )*(?:cannot (?:open|access|stat) )?['‘"]?([\w./@+-]+)['’"]?: No such file or directory/);
  if (!file || !own(file.found[1] as string)) return null;
  const path = inProject(file.found[1] as string);
  if (path === '' || command === '') return null;
  return issue('file_missing', { what, path, near: near(path, files), line: file.line });
};

const usualCommands = [
  'node',
  'npm',
  'npx',
  'python3',
  'pip',
  'java',
  'javac',
  'mvn',
  'make',
  'gcc',
  'bash',
  'git',
  'curl',
  'tar',
  'sed',
  'awk',
  'grep',
  'find',
];

const readOnly: Rule = ({ what }, lines) => {
  const hit =
    find(lines, /EROFS: read-only file system, \w+ '([^']+)'/) ??
    find(lines, /Errno 30\] Read-only file system: '([^']+)'/) ??
    find(lines, /['‘"]?([\w./@+-]+)['’"]?: Read-only file system/) ??
    find(lines, /(\S+) \(Read-only file system\)/);
  return hit && issue('folder_read_only', { what, path: hit.found[1] ?? 'the file', line: hit.line });
};

const networkClosed: Rule = ({ what, network }, lines) => {
  if (network) return null;
  const hit =
    find(lines, /getaddrinfo (?:EAI_AGAIN|ENOTFOUND) ([\w.-]+)/) ??
    find(
      lines,
      /(?:Could not resolve host|Name or service not known|Temporary failure in name resolution)(?::? ?([\w.-]+\.[\w.-]+))?/,
    ) ??
    find(lines, /(?:network is unreachable|ENETUNREACH)(?:[^\w]+([\d.]+))?/i) ??
    find(lines, /UnknownHostException: ([\w.-]+)/);
  return hit && issue('network_closed', { what, host: hit.found[1] ?? 'an address outside', line: hit.line });
};

/** `read` of a shell, as a command of its own. */
const shellRead = /(?:^|[;&|({\s])(read(?:\s+-\w+(?:\s+(?:"[^"]*"|'[^']*'|[^\s;]+))?)*(?:\s+\w+)*)\s*(?:$|[;&|)}\n])/m;

/** A command that runs a script with a shell: `bash migrate.sh`, `./migrate.sh`. */
const shellScript = /^(?:exec\s+)?(?:(?:ba|da|z|k)?sh\s+(?:-\w+\s+)*([\w@+-][\w./@+-]*)|\.\/([\w./@+-]+))(?:\s|$)/;

const asksForInput: Rule = ({ what, command, exit, textOf }, lines) => {
  // At the end of its input, which is empty, `read` fails and prints nothing: in the command, or in the script that it runs.
  const quiet = exit === 1 && lines.length === 0;
  const path = quiet ? shellScript.exec(command.trim()) : null;
  const script = path ? (textOf?.((path[1] ?? path[2] ?? '').replace(/^\.\//, '')) ?? '') : '';
  const read = quiet
    ? (shellRead.exec(command.slice(0, 4_000)) ?? shellRead.exec(script.slice(0, 64_000)))?.[1]
    : undefined;
  if (read) return issue('waits_for_input', { what, line: read.trim().slice(0, 300) });
  const eof = find(
    lines,
    /EOFError: EOF when reading a line|unsettled top-level await|NoSuchElementException: No line found|ERR_USE_AFTER_CLOSE|readline was closed|unexpected end of (?:input|file) on (?:stdin|standard input)|the input device is not a TTY|stdin is not a (?:tty|terminal)/i,
  );
  const last = lines.at(-1)?.trim() ?? '';
  const prompt =
    /(?:\[[yY]\/[nN]\]|\([yY]\/[nN]\)|\(yes\/no\))[?:>]?$|(?:[Pp]assword|[Cc]ontinue|[Pp]roceed|[Ee]nter [\w ]+).{0,20}[?:>]$/.test(
      last,
    );
  if (!eof && !prompt) return null;
  const asked = prompt ? last : (lines.findLast((line) => /[?:>]\s*(?:Traceback.*)?$/.test(line)) ?? eof?.line ?? '');
  return issue('waits_for_input', { what, line: asked.trim().slice(0, 300) });
};

/** In the order in which one explains the other: a missing version explains a missing file, not the other way round. */
const rules: Rule[] = [readOnly, scriptMissing, toolVersion, variableMissing, networkClosed, asksForInput, missing];

/** The cause, or null where the program's own words are the best there is. */
export function diagnoseProgram(facts: ProgramFacts): Issue | null {
  const lines = facts.lastLines.map((line) => stripped(line)).filter((line) => line.trim() !== '');
  for (const rule of rules) {
    const found = rule(facts, lines);
    if (found) return found;
  }
  return null;
}

/** Lines are cut first: they are as long as whoever printed them liked. */
const stripped = (line: string): string =>
  line
    .slice(0, 2_000)
    // biome-ignore lint/suspicious/noControlCharactersInRegex: terminal colours (ECMA-48) begin with them
    .replace(/\u001b\[[0-9;?]*[A-Za-z]/g, '')
    .replace(/\r$/, '');
