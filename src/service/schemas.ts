/** The compilers of the routes' schemas: each schema is compiled when it is needed for the first time, so that a start takes less. */
import buildValidators from '@fastify/ajv-compiler';
import buildSerializers from '@fastify/fast-json-stringify-compiler';

type Check = ((data: unknown) => unknown) & { errors?: unknown };
type Write = (data: unknown) => string;

/** As Fastify's own, which compile all at once. */
export const compilersFactory = {
  buildValidator(...given: Parameters<ReturnType<typeof buildValidators>>) {
    const build = buildValidators()(...given) as (route: never) => Check;
    return (route: never): Check => {
      let made: Check | undefined;
      const check: Check = (data) => {
        made ??= build(route);
        const ok = made(data);
        check.errors = made.errors;
        return ok;
      };
      return check;
    };
  },
  buildSerializer(...given: Parameters<ReturnType<typeof buildSerializers>>) {
    const build = buildSerializers()(...given) as (route: never) => Write;
    return (route: never): Write => {
      let made: Write | undefined;
      return (data) => {
        made ??= build(route);
        return made(data);
      };
    };
  },
};
