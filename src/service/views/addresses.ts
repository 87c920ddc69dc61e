/** Addresses as people see them. */
import { domainToUnicode } from 'node:url';
import { proofRecord, proofText } from '../../core/domains/names.js';
import { tlsUrlOf, urlOf } from '../../engine/context.js';
import { proofToken } from '../../engine/domains/certify.js';
import type { Db } from '../../records/database.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import { addressesOf, mainAddresses } from '../../records/domains/addresses.js';
import { certificatesById } from '../../records/domains/certificates.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import type { Address } from '../../wire/environments/addresses.js';
import type { Service } from '../server.js';
import { said } from './basics.js';

export async function addressViews(
  { context }: Pick<Service, 'context'>,
  db: Db,
  { project, environment }: { project: ProjectRow; environment: EnvironmentRow },
): Promise<Address[]> {
  const rows = await addressesOf(db, environment.id);
  const used = rows.flatMap((row) => (row.certificate_id ? [row.certificate_id] : []));
  const certificates = new Map((await certificatesById(db, used)).map((one) => [one.id, one]));
  const main = (await mainAddresses(db, [environment.id])).get(environment.id) ?? environment.host;
  return rows.map((row) => {
    const certificate = row.certificate_id ? certificates.get(row.certificate_id) : undefined;
    const unicode = domainToUnicode(row.host);
    return {
      host: row.host,
      unicode: unicode === row.host ? null : unicode,
      // What only this service certifies is not trusted by others.
      url:
        certificate && (row.kind === 'own' || certificate.source !== 'local')
          ? tlsUrlOf(context.addresses, row.host)
          : urlOf(context.addresses, row.host),
      kind: row.kind,
      declared: row.declared,
      current: row.host === environment.host,
      main: row.host === main,
      state: row.state,
      since: row.state_since.toISOString(),
      issue: said(row.issue),
      proof:
        row.kind === 'own'
          ? { record: proofRecord(row.host), value: proofText(proofToken(context, project, row.host)) }
          : null,
      certificate: certificate
        ? {
            issuer: certificate.issuer,
            source: certificate.source,
            from: certificate.not_before.toISOString(),
            until: certificate.not_after.toISOString(),
          }
        : null,
      createdAt: row.created_at.toISOString(),
    };
  });
}
