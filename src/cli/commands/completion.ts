/** `completion bash|zsh|fish`: a script by which the shell completes commands and options, made from the commands themselves. */
import { Argument, type Command } from 'commander';
import { say } from '../print.js';

/** What may follow a path of commands: `project add` → its words, each with what it means. */
type Words = Map<string, { word: string; about: string }[]>;

export function completionCommand(program: Command): void {
  program
    .command('completion')
    .description('a script that completes commands and options in the shell')
    .addArgument(new Argument('<shell>').choices(['bash', 'zsh', 'fish']))
    .addHelpText('after', '\nExample:\n  tsunagi completion bash > ~/.local/share/bash-completion/completions/tsunagi')
    .action((shell: 'bash' | 'zsh' | 'fish') => say(completionScript(program, shell)));
}

export function completionScript(program: Command, shell: 'bash' | 'zsh' | 'fish'): string {
  const words = wordsOf(program);
  return { bash, zsh, fish }[shell](words);
}

function wordsOf(program: Command): Words {
  const words: Words = new Map();
  const visit = (command: Command, path: string) => {
    const below = command.commands.filter((one) => one.name() !== 'help');
    words.set(path, [
      ...below.map((one) => ({ word: one.name(), about: one.description() })),
      ...command.options.map((one) => ({ word: one.long ?? one.short ?? '', about: one.description })),
      { word: '--help', about: 'what it does, with an example' },
    ]);
    for (const one of below) visit(one, `${path} ${one.name()}`.trim());
  };
  visit(program, '');
  return words;
}

/** A text in single quotes, whatever is in it. */
const quoted = (text: string): string => `'${text.replaceAll("'", "'\\''")}'`;
const only = (list: { word: string }[]): string => list.map((one) => one.word).join(' ');
/** The commands among the words before the one that is completed: those that lead on, as far as they do. */
const paths = (words: Words): string =>
  [...words.keys()]
    .filter(Boolean)
    .map((path) => `      ${quoted(path)}) path=${quoted(path)} ;;`)
    .join('\n');

const bash = (words: Words): string => `_tsunagi() {
  local cur=\${COMP_WORDS[COMP_CWORD]} path='' word words=''
  for word in "\${COMP_WORDS[@]:1:COMP_CWORD-1}"; do
    case "\${path:+$path }$word" in
${paths(words)}
    esac
  done
  case "$path" in
${[...words].map(([path, list]) => `    ${quoted(path)}) words=${quoted(only(list))} ;;`).join('\n')}
  esac
  COMPREPLY=($(compgen -W "$words" -- "$cur"))
  # Names of files where a command takes one.
  [[ \${#COMPREPLY[@]} -gt 0 || $cur == -* ]] || COMPREPLY=($(compgen -f -- "$cur"))
}
complete -F _tsunagi tsunagi`;

const zsh = (words: Words): string => `#compdef tsunagi
_tsunagi() {
  local path='' word
  local -a list
  for word in "\${words[@]:1:CURRENT-2}"; do
    case "\${path:+$path }$word" in
${paths(words)}
    esac
  done
  case "$path" in
${[...words]
  .map(
    ([path, list]) =>
      `    ${quoted(path)}) list=(${list.map((one) => quoted(`${one.word}:${one.about.replaceAll(':', '\\:')}`)).join(' ')}) ;;`,
  )
  .join('\n')}
  esac
  _describe 'tsunagi' list || _files
}
compdef _tsunagi tsunagi`;

const fish = (words: Words): string => `function __tsunagi_path
  set -l path ''
  for word in (commandline -opc)[2..-1]
    set -l next (string trim "$path $word")
    contains -- $next ${[...words.keys()].filter(Boolean).map(quoted).join(' ')}; and set path $next
  end
  echo $path
end
complete -c tsunagi -f
${[...words]
  .flatMap(([path, list]) =>
    list.map(
      ({ word, about }) =>
        `complete -c tsunagi -n ${quoted(`test (__tsunagi_path) = ${path === '' ? '""' : `"${path}"`}`)} ${word.startsWith('--') ? `-l ${word.slice(2)}` : `-a ${quoted(word)}`} -d ${quoted(about)}`,
    ),
  )
  .join('\n')}`;
