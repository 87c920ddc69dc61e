/** The name system as a project's owner is asked by it: the proof of a name, and where it leads. */
import { promises as dns } from 'node:dns';
import { CodedError } from '../core/errors/errors.js';
import { proofRecord, proofText, shownRecords } from '../core/domains/names.js';

export interface Resolver {
  /** Throws `proof_missing`, which says what was found, or `name_server_away`. */
  prove(host: string, token: string): Promise<void>;
  /** Throws `address_elsewhere` where the host leads to none of these addresses. */
  leadsTo(host: string, addresses: readonly string[]): Promise<void>;
}

/** Milliseconds for one question, and how often it is asked. */
const questionMs = 3_000;
const tries = 2;
/** There is no such name, or it has no record of this kind. */
const none = new Set(['ENOTFOUND', 'ENODATA']);

/** @param servers addresses of name servers, with or without a port; none: those of the system */
export function openResolver(servers: readonly string[]): Resolver {
  const resolver = new dns.Resolver({ timeout: questionMs, tries });
  if (servers.length) resolver.setServers(servers);
  const found = async <T>(record: string, ask: () => Promise<T[]>): Promise<T[]> => {
    try {
      return await ask();
    } catch (error) {
      const { code = '' } = error as NodeJS.ErrnoException;
      if (none.has(code)) return [];
      throw new CodedError('name_server_away', { record, detail: code || String(error) }, error);
    }
  };
  return {
    async prove(host, token) {
      const record = proofRecord(host);
      const value = proofText(token);
      // A long text is cut into pieces on its way (RFC 7208, 3.3).
      const texts = (await found(record, () => resolver.resolveTxt(record))).map((pieces) => pieces.join('').trim());
      if (!texts.includes(value)) throw new CodedError('proof_missing', { record, value, found: shownRecords(texts) });
    },
    async leadsTo(host, addresses) {
      if (addresses.length === 0) return;
      const all = [
        ...(await found(host, () => resolver.resolve4(host))),
        ...(await found(host, () => resolver.resolve6(host))),
      ];
      if (all.some((one) => addresses.includes(one))) return;
      throw new CodedError('address_elsewhere', {
        name: host,
        found: all.slice(0, 3).join(', ') || 'nothing',
        wanted: addresses.join(' or '),
      });
    },
  };
}
