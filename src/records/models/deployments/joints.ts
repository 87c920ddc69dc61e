/** Deployments of several projects that go together or not at all. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { JointState } from '../../../core/states.js';
import { int, json, text, texts, time, uuid } from '../columns.js';

/** As they were when it was asked for. */
export interface JointMemberRow {
  project: string;
  projectId: string;
  environmentId: string;
  release: number;
  deployment: number;
  deploymentId: string;
}

export class Joint extends Model<InferAttributes<Joint>, InferCreationAttributes<Joint>> {
  declare id: string;
  declare number: CreationOptional<number>;
  declare environment: string;
  declare actor: string;
  declare state: CreationOptional<JointState>;
  declare members: JointMemberRow[];
  /** Why it is to go back, and who wants that. */
  declare back: Issue | null;
  declare back_by: string | null;
  /** Why none went, or all went back. */
  declare issue: Issue | null;
  /** Projects that had gone on since, or had nothing to go back to. */
  declare stayed: CreationOptional<string[]>;
  declare due_at: CreationOptional<Date | null>;
  declare created_at: CreationOptional<Date>;
  declare state_since: CreationOptional<Date>;
}

export const defineJoint = (sequelize: Sequelize): typeof Joint =>
  class extends Joint {}.init(
    {
      id: uuid({ key: true }),
      number: int({ made: true }),
      environment: text(),
      actor: text(),
      state: text({ made: true }),
      members: json(),
      back: json({ null: true }),
      back_by: text({ null: true }),
      issue: json({ null: true }),
      stayed: texts({ made: true }),
      due_at: time({ null: true, made: true }),
      created_at: time({ made: true }),
      state_since: time({ made: true }),
    },
    { sequelize, modelName: 'Joint', tableName: 'joints', timestamps: false },
  );
