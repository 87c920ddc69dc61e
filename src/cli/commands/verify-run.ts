/** The work of `release verify`, loaded only when it is asked for. */
import { createReadStream, existsSync, readFileSync, statSync } from 'node:fs';
import { readExport } from '../../blobs/exported.js';
import { CodedError } from '../../core/errors/errors.js';
import { readKeys } from '../../core/release/keyset.js';
import { checkLayout } from '../../core/release/layout.js';
import { ago, bold, bytes, faint, json, plain, say, short, table } from '../print.js';
import type { Shared } from './shared.js';

/** Bytes of a file of keys. */
const keysAtMost = 256 * 1024;

export async function verifyRelease(file: string, options: Shared & { key: string }): Promise<void> {
  for (const path of [file, options.key])
    if (!existsSync(path) || !statSync(path).isFile())
      throw new CodedError('not_found', { what: `The file ${path}`, hint: 'Name the file as it lies here.' });
  if (statSync(options.key).size > keysAtMost)
    throw new CodedError('export_key', { what: options.key, why: `it is longer than ${bytes(keysAtMost)}` });
  const keys = readKeys(readFileSync(options.key, 'utf8'), options.key);
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
