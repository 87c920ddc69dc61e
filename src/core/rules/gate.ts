/**
 * The one gate: which rules an act must meet. It is asked when the act is, and again at the moment in which traffic moves, so a hold or a
 * freeze that comes in between counts.
 *
 * | act                                                        | rules                                   |
 * |------------------------------------------------------------|-----------------------------------------|
 * | deploy, promote, split, joint, automatic, go on            | all                                     |
 * | deploy again: the live release, with changed variables     | hold, freeze and frozen hours; and what it could not run without |
 * | revert, undo                                               | none: going back is never held up       |
 * | lift, accept, restart, scale, new logins, restore, import  | it is open; nothing else about a release |
 */
import { overridable, type RuleAnswer, type RuleName } from './rules.js';

export const acts = [
  'deploy',
  'deploy again',
  'promote',
  'split',
  'joint',
  'automatic',
  'go on',
  'revert',
  'undo',
  'lift',
  'accept',
  'restart',
  'scale',
  'new logins',
  'restore',
  'import',
] as const;
export type Act = (typeof acts)[number];

/** Rules about the act, not about the traffic: while a deployment moves, they are true of itself. */
export const ofTheAct: readonly RuleName[] = ['free', 'open', 'variables'];

const all: readonly RuleName[] = [...overridable, ...ofTheAct];
/** A deployment waits for the ones before it, so it may be asked for while another is on its way. */
const queued = (rules: readonly RuleName[]): RuleName[] => rules.filter((rule) => rule !== 'free');
const ofTime: readonly RuleName[] = ['frozen hours', 'freeze', 'not on hold'];
const open: readonly RuleName[] = ['open'];

export const gate: Readonly<Record<Act, readonly RuleName[]>> = {
  deploy: queued(all),
  promote: all,
  split: all,
  joint: all,
  automatic: all,
  'go on': all,
  'deploy again': queued([...ofTime, ...ofTheAct]),
  revert: [],
  undo: [],
  lift: open,
  accept: open,
  restart: open,
  scale: open,
  'new logins': open,
  restore: open,
  import: open,
};

/** The rules that an act must meet and does not. `moves`: it is the moment in which the traffic moves. */
export const unmetFor = (act: Act, answers: readonly RuleAnswer[], moves = false): RuleAnswer[] =>
  answers.filter(
    ({ rule, state }) => state !== 'met' && gate[act].includes(rule) && !(moves && ofTheAct.includes(rule)),
  );

/** Which act a deployment is. The live release again changes variables alone, also where another release became live since it was asked for. */
export const actOf = (
  { kind, release }: { kind: 'automatic' | 'deploy' | 'promote' | 'revert'; release: number },
  liveRelease: number | null,
): Act => (kind === 'deploy' ? (release === liveRelease ? 'deploy again' : 'deploy') : kind);
