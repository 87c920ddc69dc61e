/** Jobs of environments, as people's calls give them. */
import { type Static, Type } from '@sinclair/typebox';
import { attemptStates } from '../../core/states.js';
import { Id, Nullable, oneOf, Said, Time } from '../parts.js';

/** One time that a job ran. Its log is that of the attempt. */
export const JobRun = Type.Object({
  attempt: Id,
  number: Type.Integer(),
  state: oneOf(attemptStates),
  deployment: Type.Integer(),
  release: Type.Integer(),
  issue: Nullable(Said),
  createdAt: Time,
  startedAt: Nullable(Time),
  endedAt: Nullable(Time),
});
export type JobRun = Static<typeof JobRun>;

export const Job = Type.Object({
  name: Type.String(),
  schedule: Type.String(),
  nextAt: Time,
  /** Times that passed without it, since it last ran. */
  missed: Type.Integer(),
  last: Nullable(JobRun),
});
export type Job = Static<typeof Job>;

export const JobDetail = Type.Intersect([Job, Type.Object({ runs: Type.Array(JobRun) })]);
export type JobDetail = Static<typeof JobDetail>;
