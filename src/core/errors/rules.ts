/** The rules by which environments take releases, and the steps in which the traffic moves. */
import { entry } from './entry.js';

export const ofRules = {
  environment_frozen: entry(
    409,
    '{environment} takes nothing now: {why}.',
    'Wait until {until}. A revert is possible.',
  ),
  promotion_waits: entry(409, '{release} is not taken yet: {why}.', 'It is taken as soon as its rules allow it.'),
  release_settles: entry(
    409,
    '{release} is not taken yet: {live} is given until {until} to be in good health for as long as it takes to be promoted.',
    'It is taken then, or as soon as the health of {live} is poor; `tsunagi deploy` does not wait.',
  ),
  rules_not_met: entry(
    409,
    'The rules of {environment} were not met any more when the traffic was to move: {why}.',
    'What was live goes on. Promote it again when they are met; `tsunagi promote … --check` says how they stand.',
  ),
  override_needless: entry(
    409,
    'Nothing has to be overridden: the rules of {environment} are met.',
    'Promote it without `--override`.',
  ),
  override_refused: entry(
    409,
    '{release} cannot be promoted to {environment}, and no reason helps: {why}.',
    'What is missing is no rule of people. Mend that first.',
  ),
  approvals_none: entry(
    409,
    '{environment} takes releases without approvals.',
    'Say `approvals: 1` there in the definition, where one is wanted.',
  ),
  approval_person: entry(
    403,
    'This token belongs to nobody: an approval is a person’s.',
    'Sign in, or use a token of your own.',
  ),
  approval_missing: entry(
    404,
    'You have not approved {release} for {environment}, or have withdrawn it.',
    '`tsunagi promote {release} --to {environment} --check` says who has.',
  ),
  not_frozen: entry(
    404,
    '{environment} is not frozen by anybody.',
    '`tsunagi rules {environment}` shows its frozen hours.',
  ),
  freeze_end: entry(
    400,
    'A freeze ends between a minute and a year from now, not at {until}.',
    'Give `--until` a time with its zone, or `--for` a duration such as 2d.',
  ),
  rules_moved: entry(
    409,
    'Main declares other rules by now than those of {commit}.',
    'Look at them with `tsunagi rules {environment}`, and accept those.',
  ),
  rules_same: entry(409, 'The rules that main declares for {environment} count already.', 'Nothing is to be accepted.'),
  cutover_order: entry(
    422,
    '`{step}` does not come after what stands before it.',
    'Shares rise from step to step; a mirror comes first, and once.',
  ),
  one_way_shares: entry(
    422,
    'While `{file}` is one-way, no traffic moves in shares: old programs would answer beside what they can’t bear.',
    'Leave `cutover` out for this release, or take it out of `one_way` when it has run everywhere.',
  ),
  revert_one_way: entry(
    409,
    '{environment} has been through {files}, which r{release} can’t bear: it is marked as one-way.',
    'Go back nevertheless with `tsunagi revert {environment} --one-way`, if you know that it can.',
  ),
  split_not_live: entry(
    409,
    'A split is between what is live and another release: {live} is live, not {release}.',
    'Name the release that is live first.',
  ),
  cutover_worse: entry(
    409,
    '{release} fared worse: {what} of {where}, {now}, against {than}.',
    'What was live has all of the traffic again, and {environment} is on hold. Mend it, then `tsunagi lift {environment}`.',
  ),
  cutover_back: entry(
    409,
    '{who} has taken the traffic back.',
    'What was live has all of it. Promote again when it is mended.',
  ),
  cutover_few: entry(
    409,
    'For {time} there was too little traffic on {release} to judge it by.',
    'Let it go on, or take it back: `tsunagi cutover {environment} --go-on`, or `--back`.',
  ),
  cutover_moved: entry(
    409,
    'The traffic of {environment} is in another step by now.',
    'Look at it with `tsunagi cutover {environment}`, and say it again.',
  ),
  cutover_none: entry(
    409,
    'No traffic of {environment} moves in steps now.',
    '`tsunagi environment show {environment}` says what is live there.',
  ),
} as const;
