/** What main declares of rules: at once where it asks for more, and when a releaser has accepted it where it asks for less. */
import { canonical } from '../../core/canonical.js';
import type { Definition } from '../../core/definition/model.js';
import { CodedError } from '../../core/errors/errors.js';
import { type Loosened, type Rules, rulesOf, tighten } from '../../core/rules/in-force.js';
import { type EnvironmentRow, environmentsOf, environmentById } from '../../records/deployments/environments.js';
import { setRules } from '../../records/deployments/rules.js';
import { recordEvents } from '../../records/events.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { makeDue } from '../../records/runs/runs.js';
import type { Db } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';
import { ruled } from './rules.js';

export interface Moved {
  environment: EnvironmentRow;
  rules: Rules;
  /** What is told: nothing where it was told with the definition before. */
  loosened: Loosened[];
}

type Plans = Definition['environments'];

/** The environments whose rules a definition changes, with those that count then. */
export async function rulesMoved(db: Db, project: ProjectRow, before: Plans, now: Plans): Promise<Moved[]> {
  return (await environmentsOf(db, project.id)).flatMap((environment) => {
    if (environment.kind !== 'standing') return [];
    const counted =
      environment.rules ?? (before[environment.plan_name] ? rulesOf(before, environment.plan_name) : null);
    const { rules, loosened } = tighten(counted, rulesOf(now, environment.plan_name));
    const known = tighten(counted, rulesOf(before, environment.plan_name)).loosened;
    const told = canonical(loosened) === canonical(known) ? [] : loosened;
    return told.length || canonical(rules) !== canonical(environment.rules)
      ? [{ environment, rules, loosened: told }]
      : [];
  });
}

export async function moveRules(
  db: Db,
  project: ProjectRow,
  { environment, rules, loosened }: Moved,
  actor: string,
): Promise<void> {
  await setRules(db, environment.id, rules);
  if (loosened.length)
    await recordEvents(db, {
      type: 'rules.loosened',
      project: project.id,
      subject: placeOf(project, environment),
      actor,
      data: { waits: loosened.map(({ says }) => says) },
    });
}

/** A releaser accepts what main declares; `commit` is the definition that they have looked at. */
export async function acceptRules(
  db: Db,
  project: ProjectRow,
  name: string,
  commit: string,
  actor: string,
): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  const place = placeOf(project, environment);
  const { main, rules: counted, loosened } = await ruled(db, environment);
  if (main?.commit !== commit) throw new CodedError('rules_moved', { commit: commit.slice(0, 12), environment: place });
  if (loosened.length === 0) throw new CodedError('rules_same', { environment: place });
  const rules = rulesOf(main.model.environments, environment.plan_name);
  await setRules(db, environment.id, rules);
  await recordEvents(db, {
    type: 'rules.accepted',
    project: project.id,
    subject: place,
    actor,
    data: { commit, before: counted, now: rules },
  });
  await makeDue(db, 'environments', environment.id);
  return environmentById(db, environment.id);
}
