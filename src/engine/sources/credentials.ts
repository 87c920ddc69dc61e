/** How a project's source elsewhere is reached. Its credential is encrypted, and opened only to be handed to git. */
import { sealedPlace } from '../../keys/places.js';
import { join } from 'node:path';
import type { Credential, Remote } from '../../git/remote.js';
import type { Keys } from '../../keys/keys.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Context } from '../context.js';

export const knownHosts = (context: Pick<Context, 'repositories'>): string =>
  join(context.repositories, '..', 'known_hosts');

export function remoteOf(
  context: Pick<Context, 'repositories' | 'keys'>,
  project: Pick<ProjectRow, 'id' | 'url' | 'credential' | 'private_allowed'>,
): Remote {
  return {
    url: project.url ?? '',
    credential: project.credential ? openCredential(context.keys, project.id, project.credential) : null,
    privateAllowed: project.private_allowed,
    knownHosts: knownHosts(context),
  };
}

const placeOf = (project: string): string => sealedPlace('projects.credential', project);

/** @param project its id */
export const sealCredential = (keys: Keys, project: string, credential: Credential | null): Buffer | null =>
  credential ? keys.encrypt(JSON.stringify(credential), placeOf(project)) : null;
const openCredential = (keys: Keys, project: string, sealed: Buffer): Credential =>
  JSON.parse(keys.decrypt(sealed, placeOf(project))) as Credential;
