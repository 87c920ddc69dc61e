/** The work of `release verify`, loaded only when it is asked for. */
import { createReadStream } from 'node:fs';
import { readExport } from '../../blobs/exported.js';
import { checkLayout } from '../../core/release/layout.js';
import { ago, bold, bytes, faint, json, plain, say, short, table } from '../print.js';
import { keysOf, needFile } from '../keys.js';
import type { Shared } from './shared.js';

export async function verifyRelease(file: string, options: Shared & { key: string }): Promise<void> {
  needFile(file);
  const keys = keysOf(options.key);
  const { index, blobs } = await readExport(createReadStream(file));
  const { digest, parts, stated, provenance, keyid } = checkLayout(index, blobs, keys);
  const { project, number, commit } = stated;
  if (options.json)
    return json({ project, number, digest, commit, parts, key: keyid, provenance, evidence: stated.evidence });
  const { runDetails } = provenance as { runDetails?: { builder?: { id?: string } } };
  say(
    `${bold(`${plain(project)} r${number}`)} is whole: ${blobs.size} blobs are what their names say.`,
    faint(digest),
    `Made by ${plain(String(runDetails?.builder?.id ?? 'a service without a name'))} of ${short(commit.id)} ${plain(commit.title)}`,
    `Signed with ${keyid}`,
    '',
    table(
      ['PART', 'SIZE', 'DIGEST'],
      parts.map((part) => [
        part.name,
        bytes(part.layers.reduce((sum, layer) => sum + layer.size, 0)),
        part.digest.slice(0, 19),
      ]),
    ),
    '',
    table(
      ['EVIDENCE', 'NAME', 'FROM', 'WHEN'],
      stated.evidence.map((one) => [plain(one.kind), plain(one.name), plain(one.source), ago(one.at)]),
    ),
  );
}
