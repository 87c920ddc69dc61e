/** What stands in the address of a page: a filter, a task, a line. */
export interface Search {
  project?: string;
  state?: string;
  branch?: string;
  ref?: string;
  task?: string;
  attempt?: string;
  line?: number;
  release?: number;
  then?: string;
  host?: string;
  door?: string;
  from?: string;
  to?: string;
  weeks?: number;
  who?: string;
  about?: string;
  all?: string;
}

const numbers: readonly (keyof Search)[] = ['line', 'release', 'weeks'];
const lengthLimit = 400;

/** Of what somebody wrote into an address, that which a page takes; anything else is as if it were not there. */
export function readSearch(search: Readonly<Record<string, unknown>>, names: readonly (keyof Search)[]): Search {
  const found: Record<string, string | number> = {};
  for (const name of names) {
    const value = search[name];
    if (numbers.includes(name)) {
      if (Number.isSafeInteger(Number(value)) && Number(value) >= 0 && value !== '' && value !== null)
        found[name] = Number(value);
    }
    // A text of digits is read as a number, `true` as a truth.
    else if (['string', 'number', 'boolean'].includes(typeof value) && String(value).length <= lengthLimit)
      found[name] = String(value);
  }
  return found;
}
