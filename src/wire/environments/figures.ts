/** Figures: what edges and agents send, and what people see. */
import { type Static, Type } from '@sinclair/typebox';
import { buckets } from '../../core/figures/histogram.js';
import { cutoverFigures } from '../../core/cutover/verdict.js';
import { closed, Id, Nullable, oneOf, Said, Time } from '../parts.js';

const count = Type.Integer({ minimum: 0, maximum: 2_000_000_000 });
const Batch = {
  /** Of the process that sends; with it the numbers of its batches begin anew. */
  boot: Id,
  batch: Type.Integer({ minimum: 1 }),
};

const Side = Type.Object({ units: count, bad: count }, closed);

/** What an edge has counted: of one instance (or of a site: empty) in ten seconds. */
export const EdgeFigures = Type.Object(
  {
    ...Batch,
    name: Type.String({ minLength: 1, maxLength: 80 }),
    figures: Type.Array(
      Type.Object(
        {
          at: Type.Integer({ minimum: 0 }),
          host: Type.String({ maxLength: 300 }),
          deployment: Type.Integer({ minimum: 1, maximum: 2_000_000_000 }),
          part: Type.String({ maxLength: 40 }),
          instance: Type.String({
            pattern: '^([0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12})?$',
          }),
          requests: count,
          errors: count,
          bytes: Type.Integer({ minimum: 0 }),
          times: Type.Array(count, { maxItems: buckets }),
        },
        closed,
      ),
      { maxItems: 20_000 },
    ),
    /** Of hosts whose traffic moves: what each side was assigned in a slice, and how much of it was bad. */
    slices: Type.Optional(
      Type.Array(
        Type.Object(
          {
            host: Type.String({ maxLength: 300 }),
            stage: Type.String({ pattern: '^d[1-9][0-9]{0,9} [1-9][0-9]{0,9}$' }),
            counts: Type.Array(
              Type.Object(
                {
                  figure: oneOf(cutoverFigures),
                  part: Type.String({ pattern: '^[a-z][a-z0-9-]{0,39}$' }),
                  path: Type.String({ pattern: '^(/[A-Za-z._~*/-]{0,70})?$' }),
                  old: Nullable(Side),
                  now: Side,
                },
                closed,
              ),
              { maxItems: 2_000 },
            ),
            mirrored: Type.Optional(
              Type.Object(
                {
                  compared: count,
                  dropped: count,
                  rested: count,
                  oldErrors: count,
                  nowErrors: count,
                  status: count,
                  kind: count,
                  length: count,
                  same: count,
                  differ: count,
                  oldTimes: Type.Array(count, { maxItems: buckets }),
                  nowTimes: Type.Array(count, { maxItems: buckets }),
                },
                closed,
              ),
            ),
          },
          closed,
        ),
        { maxItems: 200 },
      ),
    ),
    /** Hosts that were used, and when last: milliseconds since the epoch. Left out by an edge of before. */
    uses: Type.Optional(
      Type.Array(Type.Object({ host: Type.String({ maxLength: 300 }), at: Type.Integer({ minimum: 0 }) }, closed), {
        maxItems: 20_000,
      }),
    ),
  },
  closed,
);
export type EdgeFigures = Static<typeof EdgeFigures>;

/** What an agent has seen of its instances in ten seconds. */
export const AgentFigures = Type.Object(
  {
    ...Batch,
    figures: Type.Array(
      Type.Object(
        {
          at: Type.Integer({ minimum: 0 }),
          instance: Id,
          /** Milliseconds of processor time. */
          cpu: count,
          memory: Type.Integer({ minimum: 0 }),
        },
        closed,
      ),
      { maxItems: 20_000 },
    ),
  },
  closed,
);
export type AgentFigures = Static<typeof AgentFigures>;

const line = Type.Array(Nullable(Type.Number()));
export const FigureQuery = Type.Object(
  {
    /** Default: an hour ago. */
    from: Type.Optional(Time),
    /** Default: now. */
    until: Type.Optional(Time),
    part: Type.Optional(Type.String({ maxLength: 40 })),
    by: Type.Optional(Type.Unsafe<'part' | 'instance'>({ type: 'string', enum: ['part', 'instance'] })),
  },
  closed,
);
export const FigureLines = Type.Object({
  /** Time of the first point. */
  from: Time,
  /** Milliseconds between two points. */
  widthMs: Type.Integer(),
  points: Type.Integer(),
  /** One value a point, null where nothing is known. Requests a second, errors as a share, times in milliseconds, cpu in cores, memory in bytes. */
  series: Type.Array(
    Type.Object({
      part: Type.String(),
      /** `api.1`, with `by=instance`. */
      instance: Nullable(Type.String()),
      requests: line,
      errors: line,
      p50: line,
      p95: line,
      p99: line,
      cpu: line,
      memory: line,
      /** Of the whole span, from the first point at which anything is known; times are quantiles of all requests, memory is the most. */
      whole: Type.Object({
        requests: Type.Number(),
        errors: Nullable(Type.Number()),
        p50: Nullable(Type.Number()),
        p95: Nullable(Type.Number()),
        p99: Nullable(Type.Number()),
        cpu: Type.Number(),
        memory: Nullable(Type.Number()),
      }),
    }),
  ),
  /** Deployments that went live in the span. */
  marks: Type.Array(Type.Object({ at: Time, deployment: Type.Integer(), release: Type.Integer() })),
  /** Programs that ended without being told to in the span, and were started again; the newest first, at most 200. */
  restarts: Type.Array(Type.Object({ at: Time, part: Type.String(), instance: Type.String(), issue: Nullable(Said) })),
});
export type FigureLines = Static<typeof FigureLines>;
