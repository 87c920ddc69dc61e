/** The plan of a release as another house states it: what may be taken of it, member by member. */
import { Type } from '@sinclair/typebox';
import { partKinds, resourceKinds } from '../core/states.js';
import { closed, Name, Nullable, oneOf } from './parts.js';

const text = (maxLength = 4_000) => Type.String({ maxLength });
const texts = (maxItems = 1_000) => Type.Array(text(), { maxItems });
const variable = Type.String({ pattern: '^[A-Za-z_][A-Za-z0-9_]{0,99}$' });
const bytes = Type.Integer({ minimum: 0 });

const PartPlan = Type.Object(
  {
    name: Name,
    kind: oneOf(partKinds),
    needs: texts(),
    files: Nullable(texts()),
    root: text(),
    start: text(100_000),
    at: Type.String({ pattern: '^/', maxLength: 4_000 }),
    fallback: Nullable(text()),
    missing: Nullable(text()),
    maintenance: Nullable(text()),
    headers: Type.Array(
      Type.Object({ at: text(), set: Type.Record(Type.String({ maxLength: 200 }), text()) }, closed),
      { maxItems: 200 },
    ),
    redirects: Type.Array(Type.Object({ from: text(), to: text(), permanent: Type.Boolean() }, closed), {
      maxItems: 2_000,
    }),
    settings: Nullable(Type.Object({ at: text(), names: Type.Array(variable, { maxItems: 500 }) }, closed)),
    strip: Type.Boolean(),
    sticky: Type.Boolean(),
    http2: Type.Boolean(),
    schedule: Nullable(
      Type.Union([
        Type.Object({ everyMs: Type.Integer({ minimum: 60_000 }) }, closed),
        Type.Object(
          {
            at: Type.Array(
              Type.Object(
                {
                  weekday: Nullable(Type.Integer({ minimum: 1, maximum: 7 })),
                  hour: Type.Integer({ minimum: 0, maximum: 23 }),
                  minute: Type.Integer({ minimum: 0, maximum: 59 }),
                  zone: Type.String({ pattern: '^[A-Za-z_]+(?:/[A-Za-z0-9_+-]+)*$', maxLength: 60 }),
                },
                closed,
              ),
              { maxItems: 100 },
            ),
          },
          closed,
        ),
      ]),
    ),
    timeoutMs: Nullable(Type.Integer({ minimum: 0 })),
    ready: Nullable(text()),
    instances: Type.Integer({ minimum: 0, maximum: 100 }),
    auto: Nullable(
      Type.Object(
        {
          min: Type.Integer({ minimum: 1, maximum: 100 }),
          max: Type.Integer({ minimum: 1, maximum: 100 }),
          cpu: Type.Number({ exclusiveMinimum: 0, maximum: 1 }),
        },
        closed,
      ),
    ),
    volumes: Type.Array(Name, { maxItems: 100 }),
    memory: Nullable(bytes),
    cpu: Nullable(Type.Number({ exclusiveMinimum: 0 })),
  },
  closed,
);

const VariablePlan = Type.Union([
  Type.Object({ kind: Type.Literal('literal'), value: text(32_768) }, closed),
  Type.Object(
    {
      kind: Type.Literal('set'),
      default: Nullable(text(32_768)),
      secret: Type.Boolean(),
      about: Nullable(text()),
      untrusted: Nullable(text(32_768)),
    },
    closed,
  ),
  Type.Object({ kind: Type.Literal('from'), from: text(), append: text() }, closed),
  Type.Object({ kind: Type.Literal('resource'), resource: Name, field: text(), append: text() }, closed),
]);

const ResourcePlan = Type.Object(
  {
    name: Name,
    kind: oneOf(resourceKinds),
    extensions: Type.Array(Type.String({ pattern: '^[a-z][a-z0-9_-]{0,62}$' }), { maxItems: 50 }),
    size: Type.Optional(bytes),
    backup: Nullable(
      Type.Object(
        {
          everyMs: Type.Integer({ minimum: 60_000 }),
          keep: Type.Integer({ minimum: 1, maximum: 1_000 }),
          tryMs: Nullable(Type.Integer({ minimum: 60_000 })),
        },
        closed,
      ),
    ),
  },
  closed,
);

/** As `ReleasePlan` of the core. */
const PlanStated = Type.Object(
  {
    needs: texts(),
    parts: Type.Record(Type.String(), PartPlan),
    resources: Type.Record(Type.String(), ResourcePlan),
    variables: Type.Record(Type.String(), VariablePlan),
    prepare: Nullable(
      Type.Object({ part: Name, run: text(100_000), again: Type.Boolean(), stops: Type.Boolean() }, closed),
    ),
    migrations: Nullable(texts()),
    oneWay: Type.Optional(texts()),
  },
  closed,
);

const MigrationsStated = Type.Array(
  Type.Object({ path: text(), id: Type.String({ pattern: '^[0-9a-f]{40}([0-9a-f]{24})?$' }) }, closed),
  { maxItems: 10_000 },
);

export const Stated = Type.Object({ plan: PlanStated, migrations: MigrationsStated });
