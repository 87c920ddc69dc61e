/** The models against the schema that the migrations make: no table, column, type, default, key or reference is told twice differently. */
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import type { ModelAttributeColumnOptions, ModelStatic, Model } from 'sequelize';
import { query, tables } from '../../src/records/database.js';
import { type Cluster, openCluster } from './cluster.js';

interface Column {
  table: string;
  name: string;
  type: string;
  null: boolean;
  made: boolean;
  key: boolean;
  of: string | null;
}

let cluster: Cluster;
let columns: Column[];
let models: ModelStatic<Model>[];
beforeAll(async () => {
  cluster = await openCluster(5);
  columns = await query<Column>(
    cluster.records,
    `select c.relname as table, a.attname as name, format_type(a.atttypid, a.atttypmod) as type, not a.attnotnull as null,
       a.atthasdef as made,
       exists (select 1 from pg_constraint k where k.conrelid = c.oid and k.contype = 'p' and a.attnum = any(k.conkey)) as key,
       (select o.relname from pg_constraint k join pg_class o on o.oid = k.confrelid
        where k.conrelid = c.oid and k.contype = 'f' and k.conkey = array[a.attnum]) as of
     from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid
     where n.nspname = 'public' and c.relkind in ('r', 'p') and not c.relispartition and a.attnum > 0
       and not a.attisdropped and c.relname <> 'migrations'
     order by c.relname, a.attname`,
  );
  const { in: _, ...all } = tables(cluster.records);
  models = Object.values(all) as unknown as ModelStatic<Model>[];
});
afterAll(() => cluster?.close());

const words: Record<string, string> = {
  UUID: 'uuid',
  TEXT: 'text',
  'TEXT[]': 'text[]',
  INTEGER: 'integer',
  'INTEGER[]': 'integer[]',
  BIGINT: 'bigint',
  'DOUBLE PRECISION': 'double precision',
  XID8: 'xid8',
  BOOLEAN: 'boolean',
  JSONB: 'jsonb',
  'TIMESTAMP WITH TIME ZONE': 'timestamp with time zone',
  BYTEA: 'bytea',
  DATE: 'date',
};
const said = (model: ModelStatic<Model>): Column[] =>
  Object.entries(model.getAttributes()).map(([name, one]) => {
    const { type, allowNull, primaryKey, references } = one as ModelAttributeColumnOptions;
    return {
      table: String(model.getTableName()),
      name,
      type: words[(type as { toSql(): string }).toSql()] ?? `unknown ${(type as { toSql(): string }).toSql()}`,
      null: allowNull === true,
      made: Object.hasOwn(one, 'defaultValue'),
      key: primaryKey === true,
      of: typeof references === 'object' && 'model' in references ? String(references.model) : null,
    };
  });
const inOrder = (list: Column[]) =>
  [...list].sort((a, b) => (`${a.table} ${a.name}` < `${b.table} ${b.name}` ? -1 : 1));

describe('models', () => {
  it('say of every table and column what the migrations made', () => {
    expect(inOrder(models.flatMap(said))).toEqual(inOrder(columns));
    expect(models.length).toBeGreaterThan(25);
  });

  it('are associated where a column names another table, and read through it', async () => {
    const all = tables(cluster.records);
    expect(Object.keys(all.Task.associations).sort()).toEqual(['attempt', 'run']);
    expect(Object.keys(all.Instance.associations).sort()).toEqual(['agent', 'deployment', 'started']);
    expect(await all.Task.findAll({ include: ['run', 'attempt'], limit: 1 })).toEqual([]);
    for (const model of models) expect((await model.findAll({ limit: 1, raw: true })).length).toBeLessThanOrEqual(1);
  });
});
