/** Whether what came from outside has the shape that is expected. */
import type { Static, TSchema } from '@sinclair/typebox';
import { Ajv, type ValidateFunction } from 'ajv';

const ajv = new Ajv({ allowUnionTypes: true });
const compiled = new WeakMap<TSchema, ValidateFunction>();

export function fits<S extends TSchema>(schema: S, value: unknown): value is Static<S> {
  const check = compiled.get(schema) ?? ajv.compile(schema);
  compiled.set(schema, check);
  return check(value) as boolean;
}

/** The value of a JSON text of this shape, or null. */
export function parsed<S extends TSchema>(schema: S, text: string): Static<S> | null {
  try {
    const value: unknown = JSON.parse(text);
    return fits(schema, value) ? value : null;
  } catch {
    return null;
  }
}
