/** Repositories, or folders of them. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { BeginningKind, SourceKind } from '../../../core/states.js';
import { bigint, bytes, flag, int, json, text, texts, time, uuid } from '../columns.js';

export class Project extends Model<InferAttributes<Project>, InferCreationAttributes<Project>> {
  declare id: string;
  declare name: string;
  declare source: SourceKind;
  declare main_branch: string;
  declare folder: CreationOptional<string>;
  declare url: string | null;
  /** Encrypted: what its events are signed with. */
  declare event_secret: Buffer | null;
  declare definition_commit: string | null;
  declare definition_run: CreationOptional<number>;
  declare runs: CreationOptional<number>;
  declare releases: CreationOptional<number>;
  declare deployments: CreationOptional<number>;
  declare created_at: CreationOptional<Date>;
  declare variables: CreationOptional<number>;
  /** Encrypted; null where none is needed. */
  declare credential: Buffer | null;
  /** The definition of commits that have none of their own. */
  declare draft: string | null;
  /** What its first commit is made of, until that is there. */
  declare beginning: BeginningKind | null;
  /** An owner lets its address lead into private networks. */
  declare private_allowed: CreationOptional<boolean>;
  declare paused_at: Date | null;
  declare poll_at: Date | null;
  declare poll_failures: CreationOptional<number>;
  declare poll_issue: Issue | null;
  declare removed_at: Date | null;
  /** Where the states of its runs are sent; null: to none. */
  declare status_url: string | null;
  /** Those that follow are of the version before: subscriptions say how far it was told. */
  declare status_after: CreationOptional<string>;
  declare status_due: Date | null;
  declare status_failures: CreationOptional<number>;
  declare status_issue: Issue | null;
  /** Pattern of the refs of pull requests that are looked at, and the first look. */
  declare pull_refs: string | null;
  declare pull_refs_at: Date | null;
  declare poll_fence: CreationOptional<number>;
  declare status_fence: CreationOptional<number>;
  declare intake_refused_at: Date | null;
  /** A push can neither delete nor rewrite its main branch. */
  declare protect: CreationOptional<boolean>;
  /** Refs that were found in its repository and deleted, and when. */
  declare foreign_refs: CreationOptional<string[]>;
  declare foreign_refs_at: Date | null;
  /** The attribute by which files of main are pointers to what is kept elsewhere; null: there is none. */
  declare filtered: CreationOptional<string | null>;
}

export const defineProject = (sequelize: Sequelize): typeof Project =>
  class extends Project {}.init(
    {
      id: uuid({ key: true }),
      name: text(),
      source: text(),
      main_branch: text(),
      folder: text({ made: true }),
      url: text({ null: true }),
      event_secret: bytes({ null: true }),
      definition_commit: text({ null: true }),
      definition_run: int({ made: true }),
      runs: int({ made: true }),
      releases: int({ made: true }),
      deployments: int({ made: true }),
      created_at: time({ made: true }),
      variables: int({ made: true }),
      credential: bytes({ null: true }),
      draft: text({ null: true }),
      beginning: text({ null: true }),
      private_allowed: flag({ made: true }),
      paused_at: time({ null: true }),
      poll_at: time({ null: true }),
      poll_failures: int({ made: true }),
      pull_refs: text({ null: true }),
      pull_refs_at: time({ null: true }),
      poll_issue: json({ null: true }),
      removed_at: time({ null: true }),
      status_url: text({ null: true }),
      status_after: bigint({ made: true }),
      status_due: time({ null: true }),
      status_failures: int({ made: true }),
      status_issue: json({ null: true }),
      poll_fence: int({ made: true }),
      status_fence: int({ made: true }),
      intake_refused_at: time({ null: true }),
      protect: flag({ made: true }),
      foreign_refs: texts({ made: true }),
      foreign_refs_at: time({ null: true }),
      filtered: text({ null: true }),
    },
    { sequelize, modelName: 'Project', tableName: 'projects', timestamps: false },
  );
