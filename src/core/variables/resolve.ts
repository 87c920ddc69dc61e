/** The variables of a release in an environment. */
import type { VariablePlan } from '../definition/model.js';

export interface VariableFacts {
  environment: { name: string; url: string };
  release: { number: number; commit: string };
  project: { name: string };
}

export interface Resolved {
  values: Record<string, string>;
  /** Names that must be set by people and are not. */
  unset: string[];
}

export function resolveVariables(plans: Record<string, VariablePlan>, facts: VariableFacts): Resolved {
  const values: Record<string, string> = {};
  const unset: string[] = [];
  for (const [name, plan] of Object.entries(plans)) {
    if (plan.kind === 'literal') values[name] = plan.value;
    else if (plan.kind === 'from') values[name] = lookUp(plan.from, facts) + plan.then;
    else if (plan.default !== null) values[name] = plan.default;
    else unset.push(name);
  }
  return { values, unset };
}

function lookUp(reference: string, facts: VariableFacts): string {
  switch (reference) {
    case 'environment.name':
      return facts.environment.name;
    case 'environment.url':
      return facts.environment.url;
    case 'release.number':
      return `r${facts.release.number}`;
    case 'release.commit':
      return facts.release.commit;
    case 'project.name':
      return facts.project.name;
    default:
      throw new Error(`the parser lets no reference ${reference} through`);
  }
}
