/**
 * The name of an environment in its address: one label below the domain, since a certificate for all names of a domain covers one
 * label only. Names of projects and environments are ASCII already.
 */

/** Octets of a label (RFC 1035, 2.3.4). */
const labelLimit = 63;

/** `sailings-staging`, `pr-214-sailings`; the `attempt`th name where those before are taken: `sailings-staging-2`. */
export function addressLabel(
  kind: 'standing' | 'review',
  project: string,
  environment: string,
  attempt: number,
): string {
  const whole = kind === 'review' ? `${environment}-${project}` : `${project}-${environment}`;
  const end = attempt === 1 ? '' : `-${attempt}`;
  return whole.slice(0, labelLimit - end.length).replace(/-+$/, '') + end;
}

/** Characters of a name of an environment. */
const nameLimit = 40;

/** The name of the review of a branch: `on-tide-warning`; the `attempt`th where those before are taken. Everything but letters and digits of ASCII is a dash. */
export function reviewLabel(branch: string, attempt: number): string {
  const plain = branch
    .normalize('NFKD')
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '');
  const end = attempt === 1 ? '' : `-${attempt}`;
  return `on-${plain || 'branch'}`.slice(0, nameLimit - end.length).replace(/-+$/, '') + end;
}

const isLoopback = (address: string): boolean => address === '::1' || address.startsWith('127.');

/**
 * The address at which work reaches the edges: the first single one that the operator has named, else that from which an edge asks,
 * unless it is this machine's own. Where neither is known edge and agents share a machine: 127.0.0.1.
 * @param named addresses and ranges, as TSUNAGI_EDGE_ADDRESSES has them
 * @param seen addresses of edges that report, the newest report first
 */
export function edgeAddress(named: readonly string[], seen: readonly (string | null)[]): string {
  const plain = seen.flatMap((one) => (one === null ? [] : [one.replace(/^::ffff:/, '')]));
  return named.find((one) => !one.includes('/')) ?? plain.find((one) => one !== '' && !isLoopback(one)) ?? '127.0.0.1';
}
