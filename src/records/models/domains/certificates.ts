/** Certificates of hosts. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { CertificateSource } from '../../../core/states.js';
import { bigint, bytes, text, texts, time, uuid } from '../columns.js';

export class Certificate extends Model<InferAttributes<Certificate>, InferCreationAttributes<Certificate>> {
  declare id: string;
  /** As it says itself; one may stand for a whole label: `*.example`. */
  declare names: string[];
  declare source: CertificateSource;
  /** PEM, its own first. */
  declare chain: string;
  /** The private key, encrypted. */
  declare sealed: Buffer;
  declare issuer: string;
  declare not_before: Date;
  declare not_after: Date;
  /** Counts with each change: edges ask for what is newer than they have. */
  declare version: string;
  declare created_at: CreationOptional<Date>;
  /** No edge is to use it any more. */
  declare removed_at: Date | null;
  /** When a service last read an operator's certificate in its folder. */
  declare read_at: CreationOptional<Date | null>;
}

export const defineCertificate = (sequelize: Sequelize): typeof Certificate =>
  class extends Certificate {}.init(
    {
      id: uuid({ key: true }),
      names: texts(),
      source: text(),
      chain: text(),
      sealed: bytes(),
      issuer: text(),
      not_before: time(),
      not_after: time(),
      version: bigint(),
      created_at: time({ made: true }),
      removed_at: time({ null: true }),
      read_at: time({ null: true }),
    },
    { sequelize, modelName: 'Certificate', tableName: 'certificates', timestamps: false },
  );
