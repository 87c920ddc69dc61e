/** Files that people name: those of keys, and others that must be there. */
import { existsSync, readFileSync, statSync } from 'node:fs';
import type { KeyObject } from 'node:crypto';
import { CodedError } from '../core/errors/errors.js';
import { readKeys } from '../core/release/keyset.js';
import { bytes } from './print.js';

/** Bytes of a file of keys. */
const atMost = 256 * 1024;

export function needFile(path: string): void {
  if (!existsSync(path) || !statSync(path).isFile())
    throw new CodedError('not_found', { what: `The file ${path}`, hint: 'Name the file as it lies here.' });
}

/** The public keys of a file. @throws `export_key` */
export function keysOf(path: string): KeyObject[] {
  needFile(path);
  if (statSync(path).size > atMost)
    throw new CodedError('export_key', { what: path, why: `it is longer than ${bytes(atMost)}` });
  return readKeys(readFileSync(path, 'utf8'), path);
}
