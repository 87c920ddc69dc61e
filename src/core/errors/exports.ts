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
  export_imported: entry(
    409,
    '{release} was made at {service}: this service cannot say how.',
    'Pass on the file that it came in; whoever has the keys of {service} can check it.',
  ),
  export_untrusted: entry(
    409,
    'What this export holds was made of what a stranger has written.',
    'Get a release of a branch.',
  ),
  release_without_files: entry(
    409,
    '{release} was made elsewhere, and `verify` of {environment} reads files of its commit {commit}, which is not here.',
    'Push that commit to this project, or let `verify` read no files.',
  ),
  export_exists: entry(409, '{file} is there already.', 'Name another file with `--to`, or remove that one.'),
};
