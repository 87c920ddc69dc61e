/** JSON files of this machine: written whole or not at all, and believed only where they have the shape that is expected. */
import { readFileSync, renameSync, writeFileSync } from 'node:fs';
import type { Static, TSchema } from '@sinclair/typebox';
import { parsed } from './fits.js';

/** Null where there is no such file, or it was cut short, or is of another shape: an earlier or a later program has written it. */
export function readKept<S extends TSchema>(file: string, schema: S): Static<S> | null {
  try {
    return parsed(schema, readFileSync(file, 'utf8'));
  } catch {
    return null;
  }
}

/** `mode` of the file; default: its owner's alone. */
export function writeKept(file: string, value: unknown, mode = 0o600): void {
  writeFileSync(`${file}.new`, JSON.stringify(value), { mode });
  renameSync(`${file}.new`, file);
}
