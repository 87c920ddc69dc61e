/** Columns of the tables, by kind. What of them is said here is held against the migrated schema by a test. */
import { DataTypes, type ModelAttributeColumnOptions } from 'sequelize';

export interface ColumnOptions {
  /** Part of the primary key. */
  key?: true;
  null?: true;
  /** The database has a default. */
  made?: true;
  /** The table whose id it is. */
  of?: string;
}

const column =
  (type: ModelAttributeColumnOptions['type']) =>
  ({ key, null: nullable, made, of }: ColumnOptions = {}): ModelAttributeColumnOptions => ({
    type,
    allowNull: nullable === true,
    ...(key ? { primaryKey: true } : {}),
    // Left out of what is inserted: the database knows it.
    ...(made ? { defaultValue: undefined } : {}),
    ...(of ? { references: { model: of, key: 'id' } } : {}),
  });

/** `xid8`, which Sequelize has no word for; read as text. */
class TransactionId extends DataTypes.ABSTRACT {
  override key = 'XID8';
  override toSql(): string {
    return 'XID8';
  }
}

export const uuid = column(DataTypes.UUID);
export const text = column(DataTypes.TEXT);
export const texts = column(DataTypes.ARRAY(DataTypes.TEXT));
export const int = column(DataTypes.INTEGER);
export const ints = column(DataTypes.ARRAY(DataTypes.INTEGER));
/** Read as text: it may be more than a number holds. */
export const bigint = column(DataTypes.BIGINT);
export const xid = column(TransactionId as never);
export const double = column(DataTypes.DOUBLE);
export const flag = column(DataTypes.BOOLEAN);
export const json = column(DataTypes.JSONB);
export const time = column(DataTypes.DATE);
export const bytes = column(DataTypes.BLOB);
/** `2026-11-28` */
export const day = column(DataTypes.DATEONLY);
