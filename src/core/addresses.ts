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
