/** Files as git has them, by what identifies them. */

/**
 * Modification time of a laid-out file, derived from its object id: 2001 to 2009, so that tools which compare times see a
 * change when there is one and only then.
 */
export function timeOfObject(id: string): Date {
  const nineYears = 9 * 365 * 86_400;
  return new Date((978_307_200 + (Number.parseInt(id.slice(0, 12), 16) % nineYears)) * 1000);
}

/** How a file is called that is fetched alone: by what it is, wherever it lies. `mode` and `id` as git has them. */
export const nameOfObject = ({ mode, id }: { mode: string; id: string }): string => `${mode}-${id}`;
