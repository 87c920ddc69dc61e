/** The work of `check`, loaded only when it is asked for: the parser is most of the command line's bytes. */
import { execFileSync } from 'node:child_process';
import { existsSync, readFileSync, statSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { checkAgainst } from '../../core/definition/check.js';
import { type DefinitionIssue, parseDefinition } from '../../core/definition/parse.js';
import { CodedError, type Issue, wording } from '../../core/errors/errors.js';
import { type AgentOffer, pinTools } from '../../core/plan/plan.js';
import type { AgentView } from '../../wire/overview.js';
import type { PageOf } from '../../wire/parts.js';
import { signedIn } from '../api.js';
import { faint, json, plain, say } from '../print.js';
import type { Shared } from './shared.js';

export async function runCheck(path: string | undefined, options: Shared): Promise<void> {
  const given = path ?? '.';
  const file = existsSync(given) && statSync(given).isDirectory() ? join(given, 'tsunagi.yaml') : given;
  if (!existsSync(file))
    throw new CodedError('not_found', {
      what: `The file ${file}`,
      hint: 'Stand in the project’s folder, or name the file.',
    });
  const { definition, issues } = parseDefinition(readFileSync(file));
  const files = definition ? filesOf(dirname(file)) : null;
  const attributes = join(dirname(file), '.gitattributes');
  const warnings: Issue[] =
    definition && files
      ? checkAgainst(definition, files, existsSync(attributes) ? readFileSync(attributes, 'utf8') : null)
      : [];
  const offers = definition && Object.keys(definition.tools).length > 0 ? await agentsOffer() : null;
  const pinned = definition && offers ? pinTools(definition.tools, offers) : null;
  if (pinned && 'code' in pinned) warnings.push(pinned);
  const errors = issues.filter((one) => one.severity === 'error');
  if (options.json)
    json({
      valid: definition !== null,
      issues: issues.map((one) => ({ ...one, ...wording(one) })),
      warnings: warnings.map((one) => ({ ...one, ...wording(one) })),
    });
  else {
    for (const one of issues) say(place(file, one));
    for (const one of warnings) say(`${plain(wording(one).says)} ${faint(plain(wording(one).next))}`);
    if (definition)
      say(
        `${file} is valid: ${count(Object.keys(definition.tasks).length, 'task')}, ${count(Object.keys(definition.release?.parts ?? {}).length, 'part')}, ${count(Object.keys(definition.environments).length, 'environment')}.`,
      );
    else say(`${count(errors.length, 'error')}.`);
  }
  if (!definition) process.exitCode = 1;
}

/** What the agents of the service have; null where this computer is not signed in to one, or it does not answer within two seconds. */
async function agentsOffer(): Promise<AgentOffer[] | null> {
  try {
    const { url, token } = signedIn();
    const answer = await fetch(`${url}/api/agents`, {
      headers: { authorization: `Bearer ${token}` },
      signal: AbortSignal.timeout(2_000),
    });
    if (!answer.ok) return null;
    const { items } = (await answer.json()) as PageOf<AgentView>;
    return items.filter((one) => one.alive && one.takes.includes('runs'));
  } catch {
    return null;
  }
}

const count = (n: number, what: string): string => `${n} ${what}${n === 1 ? '' : 's'}`;

function place(file: string, one: DefinitionIssue): string {
  const { says, next } = wording(one);
  return `${file}:${one.line}:${one.column}  ${plain(says)} ${faint(plain(next))}`;
}

/** The files of the checkout below a folder, or null where it is none. */
function filesOf(folder: string): string[] | null {
  try {
    return execFileSync('git', ['-C', folder, 'ls-files', '-z'], {
      encoding: 'utf8',
      maxBuffer: 64 * 1024 * 1024,
      stdio: ['ignore', 'pipe', 'ignore'],
    })
      .split('\0')
      .filter(Boolean);
  } catch {
    return null;
  }
}
