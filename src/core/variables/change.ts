/** A change of variables that people ask for, checked before anything is kept. */
import { issue, type Issue } from '../errors/errors.js';
import { secretLength } from '../secrets/mask.js';

export interface VariableChange {
  name: string;
  /** Null takes it away. */
  value: string | null;
  secret: boolean;
}

/** Bytes of one value, and variables of one change. */
export const valueLimit = 64 * 1024;
export const changesLimit = 500;

const shape = /^[A-Za-z_][A-Za-z0-9_]{0,99}$/;
/** Names that can't be declared or set, as in the definition. */
export const takenVariable = (name: string): boolean =>
  /^(PATH|HOME|TMPDIR|PORT|NODE_OPTIONS|LD_.*|TSUNAGI_.*)$/i.test(name);

/** Whether a name speaks of a secret. */
export const secretName = (name: string): boolean =>
  /(^|_)(KEY|SECRET|TOKEN|PASSWORD|PASSWD|PASS|PWD|CREDENTIALS?|PRIVATE)(_|$)/i.test(name);

/** What is wrong with these changes, all of it. Values are never part of what is said. */
export function reviewChanges(changes: readonly VariableChange[]): Issue[] {
  return changes.flatMap(({ name, value, secret }, at): Issue[] => {
    if (!shape.test(name)) return [issue('variable_name', { name: name.slice(0, 60) })];
    if (takenVariable(name)) return [issue('variable_taken', { name })];
    if (changes.findIndex((one) => one.name === name) !== at) return [issue('variable_twice', { name })];
    if (value === null) return [];
    if (value.includes('\0')) return [issue('variable_value', { name, why: 'it has a zero byte' })];
    if (Buffer.byteLength(value) > valueLimit)
      return [issue('variable_value', { name, why: `it is longer than ${valueLimit / 1024} KiB` })];
    return secret && value.length < secretLength ? [issue('secret_short', { name, least: secretLength })] : [];
  });
}
