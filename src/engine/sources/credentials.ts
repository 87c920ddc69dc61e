/** How a project's source elsewhere is reached. Its credential is encrypted, and opened only to be handed to git. */
import { join } from 'node:path';
import type { Credential, Remote } from '../../git/remote.js';
import type { Keys } from '../../keys/keys.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Context } from '../context.js';

export const knownHosts = (context: Pick<Context, 'repositories'>): string =>
  join(context.repositories, '..', 'known_hosts');

export function remoteOf(
  context: Pick<Context, 'repositories' | 'keys'>,
  project: Pick<ProjectRow, 'url' | 'credential' | 'private_allowed'>,
): Remote {
  return {
    url: project.url ?? '',
    credential: project.credential ? openCredential(context.keys, project.credential) : null,
    privateAllowed: project.private_allowed,
    knownHosts: knownHosts(context),
  };
}

export const sealCredential = (keys: Keys, credential: Credential | null): Buffer | null =>
  credential ? keys.encrypt(JSON.stringify(credential)) : null;
const openCredential = (keys: Keys, sealed: Buffer): Credential => JSON.parse(keys.decrypt(sealed)) as Credential;
