/** Certificates for addresses: an operator's, or ordered from the authority that is set. */
import { sealedPlace } from '../../keys/places.js';
import { CodedError } from '../../core/errors/errors.js';
import { type AcmeSettings, orderCertificate } from '../../domains/acme.js';
import { type Certified, freshKey } from '../../domains/certificate.js';
import { makeRoot, signLocally } from '../../domains/local.js';
import { putProofs } from '../../records/callers/edges.js';
import { authorityOf, keepAuthority, operatorCertificate, setAccount } from '../../records/domains/certificates.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Context } from '../context.js';
import { untilEdgesHave } from '../edges.js';
import type { Placed } from './names.js';

/** What was had: a certificate that is recorded already, or a fresh one. */
export type Got = { id: string; issuer: string; until: Date } | (Certified & { source: 'acme' | 'local' });

/** Milliseconds in which every edge must have an answer for the authority. */
const edgesMs = 20_000;
/** Under which the service's own authority is kept. */
const own = 'local';

/** What a project's owner puts down to prove a name: the same at each time, and of no use to another project. */
export const proofToken = (context: Pick<Context, 'keys'>, project: Pick<ProjectRow, 'id'>, host: string): string =>
  context.keys.hash(`address ${project.id} ${host}`).slice(0, 32);

export async function obtain(context: Context, placed: Placed): Promise<Got> {
  const { row, project } = placed;
  const { names, records } = context;
  // What was proven long ago may be somebody else's by now.
  if (row.kind === 'own') await names.resolver.prove(row.host, proofToken(context, project, row.host));
  const operator = await operatorCertificate(records, row.host);
  if (operator) return { id: operator.id, issuer: operator.issuer, until: operator.not_after };
  if (row.kind === 'own') await names.resolver.leadsTo(row.host, names.edges);
  const { authority } = names;
  if (authority.kind === 'acme') return { ...(await order(context, placed, authority)), source: 'acme' };
  if (authority.kind === 'local')
    return { ...(await signLocally(await localAuthority(context), row.host, context.now())), source: 'local' };
  throw new CodedError('authority_away', { detail: 'none is set' });
}

/** The service's own authority, made when it is asked for first. */
export async function localAuthority(context: Context): Promise<{ key: string; root: string }> {
  const { records, keys } = context;
  let kept = await authorityOf(records, own);
  if (!kept) {
    const { key, root } = await makeRoot(context.now());
    kept = await keepAuthority(records, own, { sealed: keys.encrypt(key, sealedPlace('authorities', own)), root });
  }
  return { key: keys.decrypt(kept.sealed, sealedPlace('authorities', own)), root: kept.root ?? '' };
}

async function order(context: Context, { row, environment }: Placed, settings: AcmeSettings): Promise<Certified> {
  const { records, keys } = context;
  const { directory } = settings;
  const kept =
    (await authorityOf(records, directory)) ??
    (await keepAuthority(records, directory, {
      sealed: keys.encrypt(freshKey(), sealedPlace('authorities', directory)),
    }));
  const put = (proofs: Record<string, string>) =>
    records.transition('address.answer', (db) => putProofs(db, row.host, environment.id, proofs));
  return orderCertificate(
    settings,
    { key: keys.decrypt(kept.sealed, sealedPlace('authorities', directory)), url: kept.account_url },
    row.host,
    {
      keepAccount: async (url) => void (await setAccount(records, directory, url)),
      answer: async (token, text) => allAnswer(context, row.host, await put({ [token]: text })),
      withdraw: async () => void (await put({})),
    },
  );
}

/** The authority may ask any of them. */
async function allAnswer(context: Context, host: string, version: number): Promise<void> {
  const without = await untilEdgesHave(context.records, { host, version }, { ms: edgesMs, everyMs: 100 });
  if (without.length) throw new CodedError('certificate_slow', { edges: without.join(', ') });
}
