/** Releases that leave the house as files, and come into another one. */
import { entry } from './entry.js';

export const ofExports = {
  export_broken: entry(
    422,
    'This is no whole export of a release: {why}.',
    'Export it again, or get another copy of the file.',
  ),
  export_unsigned: entry(
    422,
    'None of the given keys vouches for this export: {why}.',
    'Get the keys of the service that made it from its address `/api/keys/releases`, by a way that you trust.',
  ),
  export_key: entry(
    422,
    '{what} holds no public key for releases: {why}.',
    'Give the JWK Set from `/api/keys/releases` of the service that made the export, or a PEM file with an Ed25519 public key.',
  ),
  export_exists: entry(409, '{file} is there already.', 'Name another file with `--to`, or remove that one.'),
};
