/** Certificates, and accounts with those who give them. */
import type { InferAttributes } from 'sequelize';
import type { CertificateSource } from '../../core/states.js';
import { type Db, notify, query, queryOne, tables } from '../database.js';
import type { Authority } from '../models/domains/authorities.js';
import type { Certificate } from '../models/domains/certificates.js';

export type CertificateRow = InferAttributes<Certificate>;
export type AuthorityRow = InferAttributes<Authority>;

const columns =
  'id, names, source, chain, sealed, issuer, not_before, not_after, version::text as version, created_at, removed_at';

export interface NewCertificate {
  id: string;
  names: readonly string[];
  source: CertificateSource;
  chain: string;
  sealed: Buffer;
  issuer: string;
  from: Date;
  until: Date;
}

/** Versions are committed in their order: edges ask for what is newer than they have. */
const inOrder = (db: Db) => query(db, 'select pg_advisory_xact_lock(7403125)');

/** Adds one and gives its id. */
export async function addCertificate(db: Db, certificate: NewCertificate): Promise<string> {
  const { id, names, source, chain, sealed, issuer, from, until } = certificate;
  await inOrder(db);
  await query(
    db,
    `insert into certificates (id, names, source, chain, sealed, issuer, not_before, not_after, version)
     values ($1, $2, $3, $4, $5, $6, $7, $8, nextval('certificate_versions'))`,
    [id, names, source, chain, sealed, issuer, from, until],
  );
  await notify(db, 'certificates');
  return id;
}

/** Those that no address uses go from the edges; an operator's own stay until another takes their place. */
export async function removeUnused(db: Db): Promise<void> {
  await inOrder(db);
  const rows = await query(
    db,
    `update certificates c set removed_at = now(), version = nextval('certificate_versions')
     where removed_at is null and source <> 'operator' and not exists (select 1 from addresses a where a.certificate_id = c.id)
     returning 1`,
  );
  if (rows.length) await notify(db, 'certificates');
}

/** Notes that an operator's certificates were read in their folder. Returns how many of these are known. */
export const noteRead = async (db: Db, chains: readonly string[]): Promise<number> =>
  (
    await query(
      db,
      `update certificates set read_at = now() where removed_at is null and source = 'operator' and chain = any($1::text[]) returning 1`,
      [chains],
    )
  ).length;

/** Milliseconds after which a certificate that no service reads in a folder any more is removed. */
const unreadMs = 600_000;

/** An operator's certificates that are not among these go. Returns how many. */
export const removeOthers = (db: Db, chains: readonly string[]): Promise<number> =>
  removeOperators(db, 'chain <> all($1::text[])', chains);

/** An operator's certificates that no service has read for ten minutes go: none has their folder any more. Returns how many. */
export const removeUnread = (db: Db): Promise<number> =>
  removeOperators(db, `coalesce(read_at, created_at) < now() - $1::int * interval '1 ms'`, unreadMs);

async function removeOperators(db: Db, which: string, bind: unknown): Promise<number> {
  await inOrder(db);
  const rows = await query(
    db,
    `with gone as (
       update certificates set removed_at = now(), version = nextval('certificate_versions')
       where removed_at is null and source = 'operator' and ${which} returning id
     ), freed as (update addresses set certificate_id = null, due_at = now(), state = 'proven', state_since = now()
       where certificate_id in (select id from gone))
     select 1 from gone`,
    [bind],
  );
  if (rows.length) await notify(db, 'certificates', 'addresses');
  return rows.length;
}

/** What is newer than an edge has, those that are gone included; the keys are encrypted. */
export const certificatesAfter = (db: Db, version: string): Promise<CertificateRow[]> =>
  query(db, `select ${columns} from certificates where version > $1::bigint order by version limit 200`, [version]);

export const certificatesById = (db: Db, ids: readonly string[]): Promise<CertificateRow[]> =>
  query(db, `select ${columns} from certificates where id = any($1::uuid[])`, [ids]);

/** The operator's certificate that stands for a host and is good at this moment: the one that is good for longest. */
export const operatorCertificate = (db: Db, host: string): Promise<CertificateRow | null> =>
  queryOne(
    db,
    `select ${columns} from certificates
     where removed_at is null and source = 'operator' and names && array[$1, '*' || substring($1 from position('.' in $1))]
       and not_before <= now() and not_after > now()
     order by not_after desc limit 1`,
    [host],
  );

export const hasChain = async (db: Db, chain: string): Promise<boolean> =>
  (await queryOne(db, 'select 1 as ok from certificates where removed_at is null and chain = $1', [chain])) !== null;

/** Certificates that went so long ago that every edge has heard of it, or has to begin anew. */
export const forgetCertificates = (db: Db): Promise<unknown> =>
  query(db, `delete from certificates where removed_at < now() - interval '90 days'`);

export async function authorityOf(db: Db, url: string): Promise<AuthorityRow | null> {
  const { Authority, in: within } = tables(db);
  return (await Authority.findByPk(url, { raw: true, ...within })) as AuthorityRow | null;
}

/** Keeps an account; of two that make one at once the first stays. Gives what is kept. */
export async function keepAuthority(
  db: Db,
  url: string,
  { sealed, root = null }: { sealed: Buffer; root?: string | null },
): Promise<AuthorityRow> {
  await query(db, 'insert into authorities (url, sealed, root) values ($1, $2, $3) on conflict do nothing', [
    url,
    sealed,
    root,
  ]);
  return (await authorityOf(db, url)) as AuthorityRow;
}

export const setAccount = (db: Db, url: string, account: string): Promise<unknown> =>
  query(db, 'update authorities set account_url = $2 where url = $1', [url, account]);

/** Puts down the key for which an edge has keys of certificates encrypted; gives whether it is another one than before. */
export const keepEdgeKey = async (db: Db, token: string, name: string, key: Buffer): Promise<boolean> =>
  (await queryOne(
    db,
    `update edges set public_key = $3 where token_id = $1 and name = $2 and public_key is distinct from $3 returning 1 as ok`,
    [token, name, key],
  )) !== null;
