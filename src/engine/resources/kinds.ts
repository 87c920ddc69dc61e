/** What makes resources: database servers, by place; agents, for volumes. */
import { sealedPlace } from '../../keys/places.js';
import { CodedError } from '../../core/errors/errors.js';
import type { ResourcePlace } from '../../core/states.js';
import { elsewhere } from '../../resources/postgres/elsewhere.js';
import { type DatabaseKind, openPostgres } from '../../resources/postgres/kind.js';
import type { VolumeKind } from '../../resources/volumes/kind.js';
import type { ResourceRow } from '../../records/resources/resources.js';
import type { CheckAddress } from '../outward.js';
import type { Keys } from '../../keys/keys.js';

/** Administrator's addresses of PostgreSQL servers, by place. */
export type Clusters = Partial<Record<Exclude<ResourcePlace, 'elsewhere'>, string>>;

export interface Kinds {
  /** What makes and removes this one. Throws `database_unset` where no server is set for its place. */
  of(row: Pick<ResourceRow, 'id' | 'kind' | 'place' | 'sealed'>): DatabaseKind | VolumeKind;
  /** The same of what must be a database. Throws `resource_no_database`. */
  database(row: Pick<ResourceRow, 'id' | 'kind' | 'name' | 'place' | 'sealed'>): DatabaseKind;
  /** The servers of this house, by place. */
  servers(): [place: string, kind: DatabaseKind][];
  /** Addresses of others that may be connected to. */
  check: CheckAddress;
  close(): Promise<void>;
}

export function openKinds(
  clusters: Clusters,
  keys: Pick<Keys, 'decrypt' | 'hash'>,
  check: CheckAddress,
  volumes: VolumeKind,
): Kinds {
  const open = new Map<string, DatabaseKind>();
  const house = `tsunagi ${keys.hash('databases of this house').slice(0, 16)}`;
  const databaseAt = ({ id, place, sealed }: Pick<ResourceRow, 'id' | 'place' | 'sealed'>): DatabaseKind => {
    if (place === 'elsewhere') {
      if (!sealed) throw new CodedError('database_gone');
      return elsewhere(keys.decrypt(sealed, sealedPlace('resources', id)), check);
    }
    const url = clusters[place];
    if (!url) throw new CodedError('database_unset', { place });
    const kind = open.get(place) ?? openPostgres(url, house);
    open.set(place, kind);
    return kind;
  };
  return {
    check,
    servers: () =>
      (Object.keys(clusters) as (keyof Clusters)[]).map((place) => [
        place,
        databaseAt({ id: '', place, sealed: null }),
      ]),
    of: (row) => (row.kind === 'volume' ? volumes : databaseAt(row)),
    database(row) {
      if (row.kind !== 'postgres') throw new CodedError('resource_no_database', { name: row.name });
      return databaseAt(row);
    },
    async close() {
      await Promise.all([...open.values()].map((one) => one.close()));
    },
  };
}
