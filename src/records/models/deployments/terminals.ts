/** Terminals of people in environments. */
import {
  type CreationOptional,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type Sequelize,
} from 'sequelize';
import type { Issue } from '../../../core/errors/errors.js';
import type { TerminalEnd, TerminalState } from '../../../core/states.js';
import { bigint, bytes, flag, int, json, text, texts, time, uuid } from '../columns.js';

export class Terminal extends Model<InferAttributes<Terminal>, InferCreationAttributes<Terminal>> {
  declare id: string;
  declare project_id: string;
  declare environment_id: string;
  declare deployment_id: string;
  declare part: string;
  /** The instance beside whose program it runs; null: in a sandbox of its own. */
  declare instance_id: string | null;
  /** Id of the caller who asked for it: a person, or a token. */
  declare caller_id: string;
  declare who: string;
  /** Program and arguments; none: a shell. */
  declare command: string[];
  declare tty: boolean;
  declare state: CreationOptional<TerminalState>;
  /** Hash of what the person's stream has to show, once. */
  declare ticket: Buffer;
  /** Address of the service that holds the person's stream. */
  declare door: string | null;
  /** What the person's terminal is called, and the size of its window. */
  declare term: string | null;
  declare columns: CreationOptional<number>;
  declare rows: CreationOptional<number>;
  declare agent_id: string | null;
  declare fence: CreationOptional<string>;
  declare stop: CreationOptional<boolean>;
  declare why: TerminalEnd | null;
  declare exit: number | null;
  declare issue: Issue | null;
  /** Since when it is in its state. */
  declare since: CreationOptional<Date>;
  declare created_at: CreationOptional<Date>;
  declare opened_at: Date | null;
  declare ended_at: Date | null;
}

export const defineTerminal = (sequelize: Sequelize): typeof Terminal =>
  class extends Terminal {}.init(
    {
      id: uuid({ key: true }),
      project_id: uuid({ of: 'projects' }),
      environment_id: uuid({ of: 'environments' }),
      deployment_id: uuid({ of: 'deployments' }),
      part: text(),
      instance_id: uuid({ null: true, of: 'instances' }),
      caller_id: uuid(),
      who: text(),
      command: texts(),
      tty: flag(),
      state: text({ made: true }),
      ticket: bytes(),
      door: text({ null: true }),
      term: text({ null: true }),
      columns: int({ made: true }),
      rows: int({ made: true }),
      agent_id: uuid({ null: true, of: 'agents' }),
      fence: bigint({ made: true }),
      stop: flag({ made: true }),
      why: text({ null: true }),
      exit: int({ null: true }),
      issue: json({ null: true }),
      since: time({ made: true }),
      created_at: time({ made: true }),
      opened_at: time({ null: true }),
      ended_at: time({ null: true }),
    },
    { sequelize, modelName: 'Terminal', tableName: 'terminals', timestamps: false },
  );
