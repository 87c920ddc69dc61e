import type { Command } from 'commander';
import { json as printJson, plain } from '../print.js';

export interface Shared {
  json?: boolean;
  project?: string;
}

/** `--json`, `--project` and the example that every command's help ends with. */
export function shared(command: Command, example: string, options: { project?: boolean } = {}): Command {
  if (options.project !== false)
    command.option('--project <name>', 'the project; default: that of the checkout one stands in');
  return command.option('--json', 'print JSON with stable fields').addHelpText('after', `\nExample:\n  ${example}`);
}

/** Prints the answer as JSON when asked to, else by `show`. */
export function give<T>(options: Shared, value: T, show: (value: T) => void): void {
  if (options.json) printJson(value);
  else show(value);
}

/** `r42`, `42` → 42; null when it is none. */
export function numberOf(text: string, letter: 'r' | 'd' | ''): number | null {
  const found = new RegExp(`^(?:${letter})?([1-9]\\d{0,8})$`).exec(text);
  return found ? Number(found[1]) : null;
}

/** What a run or release is of: a pull request or a branch. */
export const placeOfRun = (one: { branch: string | null; pullRequest: number | null }): string =>
  one.pullRequest ? `pr-${one.pullRequest}` : plain(one.branch ?? '');

/** What is not to stand among arguments: all of standard input. */
export async function readSecret(): Promise<string> {
  const parts: Buffer[] = [];
  for await (const chunk of process.stdin) parts.push(chunk as Buffer);
  return Buffer.concat(parts).toString('utf8').trim();
}

/** What an alert or a destination is about, and the same as an option has it: `sailings`, `sailings/production`. */
export const aboutOf = ({ project, environment }: { project: string | null; environment: string | null }): string =>
  environment ? `${project ?? '*'}/${environment}` : (project ?? 'everything');
export function aboutBody(text: string | undefined): { project?: string; environment?: string } {
  const [project, environment] = text?.split('/') ?? [];
  return { ...(project && project !== '*' ? { project } : {}), ...(environment ? { environment } : {}) };
}
