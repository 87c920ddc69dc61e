/** Names of hosts that people ask for, and how they prove that a name is theirs. */
import { CodedError } from '../errors/errors.js';

/** Octets of a name and of a label (RFC 1035, 2.3.4). */
const nameLimit = 253;
const label = /^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$/;

/** Endings that lead nowhere outside (RFC 6761, RFC 6762, RFC 7686, RFC 9476), so that nobody can prove or certify them. */
const special = ['localhost', 'local', 'invalid', 'onion', 'alt', 'internal', 'arpa'];

/**
 * A name in the letters that DNS knows (RFC 5890: internationalised labels as `xn--…`), lower case, without a dot at the end.
 * @param ours domains below which the service gives names itself
 * Throws `address_refused`, which says why.
 */
export function checkedName(text: string, ours: readonly string[]): string {
  const given = text.trim();
  const refuse = (why: string) => new CodedError('address_refused', { name: given.slice(0, 100), why });
  if (given.includes('*')) throw refuse('a name with `*` stands for many; name each');
  if (/[/:@?#\\%\s]|\p{Cc}/u.test(given)) throw refuse('it is not the name of a host alone');
  let host: string;
  try {
    // The rules of UTS #46, as every browser follows them.
    host = new URL(`http://${given}`).hostname.toLowerCase().replace(/\.$/, '');
  } catch {
    throw refuse('it is not the name of a host');
  }
  if (/^[\d.]+$/.test(host) || host.startsWith('[')) throw refuse('it is a number of a machine, not a name');
  const labels = host.split('.');
  if (host.length > nameLimit || !labels.every((one) => label.test(one))) throw refuse('it is not the name of a host');
  if (labels.length < 2) throw refuse('it has one label; a name of yours ends with a domain');
  for (const domain of ours)
    if (host === domain || host.endsWith(`.${domain}`))
      throw refuse(`names below ${domain} are given by the service; \`tsunagi address rename\` changes one`);
  const end = special.find((one) => labels.at(-1) === one);
  if (end !== undefined) throw refuse(`names below ${end} lead nowhere outside`);
  return host;
}

/** Hosts of the service itself: the domains below which it gives names, all that is above them, and the console's. */
export const isServiceHost = (host: string, own: readonly string[]): boolean =>
  own.some((one) => one === host || one.endsWith(`.${host}`));

/** A name that the service gives is one label below its domain. Throws `address_refused`. */
export function checkedLabel(text: string): string {
  const given = text.trim().toLowerCase();
  if (!label.test(given) || given.startsWith('xn--'))
    throw new CodedError('address_refused', {
      name: text.slice(0, 100),
      why: 'it is one label: letters of ASCII, digits and dashes, 63 at most',
    });
  return given;
}

/** The record in which a name's owner says that a project may use it. */
export const proofRecord = (host: string): string => `_tsunagi.${host}`;
/** Its text. `token` is the keyed hash of project and name. */
export const proofText = (token: string): string => `tsunagi-proof=${token}`;

/** Texts found there, as people can compare them: the first few, each cut. */
export const shownRecords = (found: readonly string[]): string =>
  found.length === 0
    ? 'no such record'
    : found
        .slice(0, 3)
        .map((one) => `“${one.length > 80 ? `${one.slice(0, 79)}…` : one}”`)
        .join(', ');
