/** What a program gets of the resources of its environment, at the moment in which it is started. Nothing of it is stored. */
import { sealedPlace } from '../../keys/places.js';
import { CodedError } from '../../core/errors/errors.js';
import type { LoginUse } from '../../core/states.js';
import type { DeploymentRow } from '../../records/deployments/deployments.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';
import { loginsOfDeployment } from '../../records/resources/logins.js';
import { volumesInside } from '../../core/definition/model.js';
import { volumesOf } from '../../records/resources/volumes.js';
import { resourceById, resourcesOf } from '../../records/resources/resources.js';
import { snapshotOfAttempt } from '../../records/resources/snapshots.js';
import type { Context } from '../context.js';

/** Where the files of a copied volume lie for its scrub, in the project's folder: what is left there is handed over. */
export const copiedFiles = '.copied-volume';

export interface OpenedResources {
  /** Resource → field → value. */
  fields: Record<string, Record<string, string>>;
  /** Names by which programs find the servers. */
  reach: { host: string; address: string; port: number }[];
  /** Volumes that are ready: name → id. */
  volumes: Record<string, string>;
}

/** Throws `resource_not_ready` where one is not there, or its login is not. */
export async function openResources(
  context: Pick<Context, 'records' | 'kinds' | 'keys'>,
  {
    deployment,
    release,
    environment,
    project,
  }: {
    deployment: DeploymentRow;
    release: ReleaseRow;
    environment: { id: string; name: string };
    project: { name: string };
  },
  login: { usedBy: LoginUse; turn: number },
): Promise<OpenedResources> {
  const opened: OpenedResources = { fields: {}, reach: [], volumes: {} };
  if (Object.keys(release.plan.resources).length === 0) return opened;
  const [rows, logins] = [
    await resourcesOf(context.records, environment.id),
    await loginsOfDeployment(context.records, deployment.id),
  ];
  for (const name of Object.keys(release.plan.resources)) {
    const row = rows.find((one) => one.name === name);
    const missing = () =>
      new CodedError('resource_not_ready', {
        name,
        environment: `${project.name}/${environment.name}`,
        state: row?.state ?? 'removed',
      });
    if (row?.kind === 'volume') {
      const volume = (await volumesOf(context.records, row.id)).find((one) => one.state === 'there');
      if (!volume || volume.closed) throw missing();
      opened.fields[name] = { path: `${volumesInside}/${name}` };
      opened.volumes[name] = volume.id;
      continue;
    }
    const own = logins.find(
      // Sorted with the newest turn first: one that was not rotated since serves on.
      (one) =>
        one.name === name &&
        one.used_by === login.usedBy &&
        (login.usedBy === 'parts' ? one.turn <= login.turn : one.turn === login.turn) &&
        one.state === 'ready',
    );
    if (!row || !own) throw missing();
    const kind = context.kinds.database(row);
    const reached = kind.reached();
    const away = row.place === 'elsewhere';
    // A server elsewhere is known by its own name: its certificate says so. What its name leads to is looked at again: agents let their
    // programs through to that very address.
    const host = away ? reached.address : name;
    const [address, port] = [away ? await context.kinds.check(reached.address) : reached.address, reached.port];
    opened.fields[name] = kind.references(row.id, host, {
      id: own.id,
      password: context.keys.decrypt(own.sealed, sealedPlace('logins', own.id)),
    });
    opened.reach.push({ host, address, port });
  }
  return opened;
}

/** What the scrub of a snapshot gets: that database, or the files of that volume, and no other resource. Throws `resource_not_ready` where it scrubs no more. */
export async function openSnapshot(
  { records, kinds, keys }: Pick<Context, 'records' | 'kinds' | 'keys'>,
  attempt: string,
): Promise<{ opened: OpenedResources; command: string; resource: string; files: string | null }> {
  const row = await snapshotOfAttempt(records, attempt);
  const of = row && (await resourceById(records, row.resource_id));
  const volume = of?.kind === 'volume';
  if (!row || !of || row.state !== 'scrubbing' || !row.scrub || (volume ? !row.digest : !row.sealed))
    throw new CodedError('resource_not_ready', {
      name: of?.name ?? 'the copy',
      environment: 'a snapshot',
      state: row?.state ?? 'removed',
    });
  const asked = { command: row.scrub.run, resource: of.name };
  if (volume) {
    const opened = { fields: { [of.name]: { path: `/project/${copiedFiles}` } }, reach: [], volumes: {} };
    return { ...asked, opened, files: row.digest };
  }
  const kind = kinds.database({ ...row, kind: 'postgres', name: of.name, sealed: null });
  const { address, port } = kind.reached();
  return {
    ...asked,
    files: null,
    opened: {
      fields: {
        [of.name]: kind.references(row.id, of.name, {
          id: row.id,
          password: keys.decrypt(row.sealed as Buffer, sealedPlace('snapshots', row.id)),
        }),
      },
      reach: [{ host: of.name, address, port }],
      volumes: {},
    },
  };
}
