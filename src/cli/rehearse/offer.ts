/** A checkout without a definition: what is in it is recognised, and one is proposed. */
import { execFileSync } from 'node:child_process';
import { lstatSync, readFileSync, writeFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { CodedError, wording } from '../../core/errors/errors.js';
import { recognise, textLimit, wantedTexts } from '../../core/recognise/recognise.js';
import { bold, faint, plain, say } from '../print.js';

/**
 * Writes the proposed definition, and gives its folder; unless `write`, shows it and throws `definition_proposed`. Throws
 * `definition_missing` where there is no checkout or nothing to recognise.
 */
export function offerDefinition(write: boolean, quiet: boolean): string {
  const missing = new CodedError('definition_missing', { commit: 'working copy', path: 'tsunagi.yaml' });
  let root: string;
  let paths: string[];
  try {
    const git = (...args: string[]) =>
      execFileSync('git', args, {
        encoding: 'utf8',
        maxBuffer: 256 * 1024 * 1024,
        stdio: ['ignore', 'pipe', 'ignore'],
      });
    root = git('rev-parse', '--show-toplevel').trim();
    paths = git('-C', root, 'ls-files', '-z', '--cached', '--others', '--exclude-standard').split('\0').filter(Boolean);
  } catch {
    throw missing;
  }
  const texts = new Map<string, string>();
  for (const path of wantedTexts(paths)) {
    const stat = lstatSync(join(root, path), { throwIfNoEntry: false });
    if (stat?.isFile() && stat.size <= textLimit) texts.set(path, readFileSync(join(root, path), 'utf8'));
  }
  const proposal = recognise({ paths, texts });
  if (proposal.found.length === 0) throw missing;
  const folder = resolve(root, proposal.found[0]?.folder ?? '');
  const file = join(folder, 'tsunagi.yaml');
  if (write) {
    writeFileSync(file, proposal.text, { flag: 'wx' });
    if (!quiet) say(`${bold(plain(file))} is written: ${plain(proposal.found.map((one) => one.what).join(', '))}.`);
    return folder;
  }
  if (!quiet) {
    const why = new Map(proposal.reasons.map((one) => [one.line, one.why]));
    for (const [at, line] of proposal.text.trimEnd().split('\n').entries())
      say(`${plain(line)}${why.has(at + 1) ? faint(`   # ${plain(why.get(at + 1) as string)}`) : ''}`);
    for (const note of proposal.notes) say(faint(plain(wording(note).says)));
  }
  throw new CodedError('definition_proposed', { what: proposal.found.map((one) => one.what).join(', ') });
}
