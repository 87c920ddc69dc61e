/** The variables of a release in an environment: what its definition gives, what people have set, and what is missing. */
import { setReference, type VariablePlan } from '../definition/model.js';

export interface VariableFacts {
  environment: { name: string; url: string };
  release: { number: number; commit: string };
  project: { name: string };
}

/** What people have set under a name: plain text, or a secret, of which only the place is known. */
export interface SetVariable {
  scope: string;
  version: number;
  /** Null for a secret. */
  value: string | null;
}

/** What counts of all that is set: of a name that stands in several scopes, that of the last of them. */
export function setIn(
  all: readonly { scope: string; name: string; version: number; value: string | null }[],
  scopes: readonly string[],
): Map<string, SetVariable> {
  const set = new Map<string, SetVariable>();
  for (const scope of scopes)
    for (const one of all)
      if (one.scope === scope) set.set(one.name, { scope, version: one.version, value: one.value });
  return set;
}

/** The scopes that count in an environment, the nearest last: the project's own, its plan's (all reviews), its own. */
export const scopesOf = (environment: { name: string; plan_name: string } | null): string[] => [
  '',
  ...(environment ? [environment.plan_name, environment.name] : []),
];

export interface SecretPlace {
  scope: string;
  name: string;
  version: number;
  /** Text put behind the value. */
  append: string;
}

export interface Resolved {
  values: Record<string, string>;
  secrets: Record<string, SecretPlace>;
  /** Names that must be set by people and are not. */
  unset: string[];
}

/** `set` is what people have set; `untrusted` for work of strangers, which gets the declared stand-ins instead. */
export function resolveVariables(
  plans: Record<string, VariablePlan>,
  facts: VariableFacts,
  set: ReadonlyMap<string, SetVariable> | 'untrusted' = new Map(),
): Resolved {
  const resolved: Resolved = { values: {}, secrets: {}, unset: [] };
  const take = (name: string, wanted: string, append: string, fallback: string | null): void => {
    const found = set === 'untrusted' ? undefined : set.get(wanted);
    if (found && found.value === null)
      resolved.secrets[name] = { scope: found.scope, name: wanted, version: found.version, append };
    else if (found) resolved.values[name] = found.value + append;
    else if (fallback !== null) resolved.values[name] = fallback;
    else resolved.unset.push(wanted);
  };
  for (const [name, plan] of Object.entries(plans)) {
    if (plan.kind === 'literal') resolved.values[name] = plan.value;
    else if (plan.kind === 'set')
      take(
        name,
        name,
        '',
        set === 'untrusted' ? (plan.untrusted ?? (plan.secret ? null : plan.default)) : plan.default,
      );
    // A field of a resource is known only where a program starts: what is recorded holds no password.
    else if (plan.kind === 'from') {
      const wanted = setReference.exec(plan.from)?.[1];
      if (wanted) take(name, wanted, plan.append, null);
      else resolved.values[name] = lookUp(plan.from, facts) + plan.append;
    }
  }
  resolved.unset = [...new Set(resolved.unset)];
  return resolved;
}

/** Variables that come from fields of resources, with their values; the names of those that are to be masked, with a field that holds a password. */
export function resourceVariables(
  plans: Record<string, VariablePlan>,
  fields: Record<string, Record<string, string>>,
): { values: Record<string, string>; secret: string[]; missing: string[] } {
  const values: Record<string, string> = {};
  const secret: string[] = [];
  const missing: string[] = [];
  for (const [name, plan] of Object.entries(plans)) {
    if (plan.kind !== 'resource') continue;
    const value = fields[plan.resource]?.[plan.field];
    if (value === undefined) missing.push(plan.resource);
    else values[name] = value + plan.append;
    if (secretFields.includes(plan.field)) secret.push(name);
  }
  return { values, secret, missing: [...new Set(missing)] };
}
const secretFields = ['url', 'password'];

/** Secrets that a settings file would show: somebody has made a secret of what the definition says is public. */
export const shownSecrets = (
  plan: { parts: Record<string, { settings: { names: string[] } | null }> },
  secrets: Record<string, unknown>,
): string[] =>
  Object.values(plan.parts).flatMap(({ settings }) =>
    (settings?.names ?? []).filter((name) => Object.hasOwn(secrets, name)),
  );

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

/** Names under which people set something that these plans take. */
export const settable = (plans: Record<string, VariablePlan>): string[] =>
  Object.entries(plans).flatMap(([name, plan]) =>
    plan.kind === 'set' ? [name] : plan.kind === 'from' ? (setReference.exec(plan.from)?.[1] ?? []) : [],
  );

type Given = Pick<Resolved, 'values' | 'secrets'>;

/** Variables whose value now is another one than it was, those that came and those that went. */
export function changedVariables(before: Given, now: Given): string[] {
  const names = new Set([
    ...Object.keys(before.values),
    ...Object.keys(before.secrets),
    ...Object.keys(now.values),
    ...Object.keys(now.secrets),
  ]);
  const same = (name: string): boolean => {
    const [a, b] = [before.secrets[name], now.secrets[name]];
    return (
      before.values[name] === now.values[name] &&
      a?.scope === b?.scope &&
      a?.name === b?.name &&
      a?.version === b?.version &&
      a?.append === b?.append
    );
  };
  return [...names].filter((name) => !same(name)).sort();
}
