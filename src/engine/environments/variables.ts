/** What people set, and what programs get of it. Secrets are decrypted only for the agent that starts what uses them. */
import { sealedPlace } from '../../keys/places.js';
import { CodedError, type Issue, issue } from '../../core/errors/errors.js';
import type { Task } from '../../core/definition/model.js';
import { reviewChanges, type VariableChange } from '../../core/variables/change.js';
import {
  type Resolved,
  resolveVariables,
  scopesOf,
  type SecretPlace,
  setIn,
  type SetVariable,
} from '../../core/variables/resolve.js';
import { type PinnedSet, setNames } from '../../core/variables/task.js';
import { type EnvironmentRow, wakeEnvironments } from '../../records/deployments/environments.js';
import { mainAddresses } from '../../records/domains/addresses.js';
import { recordEvents } from '../../records/events.js';
import { nextNumber, type ProjectRow, lockProject } from '../../records/projects/projects.js';
import type { ReleaseRow } from '../../records/deployments/releases.js';
import { putVariables, variableAt, variablesNow, type VariableRow } from '../../records/deployments/variables.js';
import { type Context, type Db, reachedAt } from '../context.js';

/** What is set for an environment: its own, else that of its plan (all reviews), else the project's. */
export async function setFor(
  db: Db,
  project: string,
  environment: Pick<EnvironmentRow, 'name' | 'plan_name'> | null,
): Promise<Map<string, SetVariable>> {
  const scopes = scopesOf(environment);
  const rows = await variablesNow(db, project, scopes);
  return setIn(
    rows.map(({ value, secret, ...row }) => ({ ...row, value: secret ? null : (value ?? '') })),
    scopes,
  );
}

export async function variablesFor(
  context: Pick<Context, 'addresses'>,
  db: Db,
  { project, environment, release }: { project: ProjectRow; environment: EnvironmentRow; release: ReleaseRow },
): Promise<Resolved> {
  const main = (await mainAddresses(db, [environment.id])).get(environment.id) ?? null;
  return resolveVariables(
    release.plan.variables,
    {
      environment: { name: environment.name, url: reachedAt(context.addresses, environment.host, main) },
      release: { number: release.number, commit: release.commit },
      project: { name: project.name },
    },
    // Work of strangers gets nothing that people have set: what stands in its place in the definition, or nothing.
    release.line === 'own' ? await setFor(db, project.id, environment) : 'untrusted',
  );
}

export type Changed = { name: string; what: 'new' | 'changed' | 'same' | 'removed'; secret: boolean };

/** What a change would do, by what is set now. A name that is a secret stays one. */
export async function previewChanges(
  context: Context,
  db: Db,
  project: ProjectRow,
  scope: string,
  changes: readonly VariableChange[],
): Promise<(Changed & { value: string | null })[]> {
  const now = new Map((await variablesNow(db, project.id, [scope])).map((row) => [row.name, row]));
  const list = changes.map((one) => ({
    ...one,
    secret: one.value !== null && (one.secret || now.get(one.name)?.secret === true),
  }));
  const [wrong] = reviewChanges(list);
  if (wrong) throw new CodedError(wrong.code, wrong.data);
  return list.flatMap(({ name, value, secret }): (Changed & { value: string | null })[] => {
    const before = now.get(name);
    if (value === null) return before ? [{ name, what: 'removed' as const, secret: before.secret, value }] : [];
    const same =
      before &&
      before.secret === secret &&
      (before.secret ? opened(context, project.id, before) : before.value) === value;
    return [{ name, what: same ? ('same' as const) : before ? ('changed' as const) : ('new' as const), secret, value }];
  });
}

/** Keeps a change as one new version; nothing where all stays as it is. It takes effect with the next deployment. */
export async function changeVariables(
  context: Context,
  db: Db,
  project: ProjectRow,
  scope: string,
  changes: readonly VariableChange[],
  actor: string,
): Promise<{ version: number | null; changes: Changed[] }> {
  // One change at a time: what is compared with must be what is changed.
  await lockProject(db, project.id);
  const list = await previewChanges(context, db, project, scope, changes);
  const real = list.filter((one) => one.what !== 'same');
  const shown = list.map(({ value: _, ...rest }) => rest);
  if (real.length === 0) return { version: null, changes: shown };
  const version = await nextNumber(db, project.id, 'variables');
  await putVariables(
    db,
    project.id,
    scope,
    version,
    actor,
    real.map(({ name, value, secret }) => ({
      name,
      secret,
      value: secret ? null : value,
      sealed:
        secret && value !== null
          ? context.keys.encrypt(value, sealedPlace('variables', project.id, scope, name, version))
          : null,
      removed: value === null,
    })),
  );
  const names = (what: Changed['what'][]) => real.filter((one) => what.includes(one.what)).map((one) => one.name);
  await recordEvents(db, {
    type: 'variables.changed',
    project: project.id,
    subject: scope ? `${project.name}/${scope}` : project.name,
    actor,
    data: { version, set: names(['new', 'changed']).join(', '), removed: names(['removed']).join(', ') },
  });
  // What waits for a value looks again.
  await wakeEnvironments(db, project.id, scope);
  return { version, changes: shown };
}

function opened(context: Pick<Context, 'keys'>, project: string, row: VariableRow): string | null {
  try {
    return row.sealed
      ? context.keys.decrypt(row.sealed, sealedPlace('variables', project, row.scope, row.name, row.version))
      : null;
  } catch {
    return null;
  }
}

/** The values of a deployment's secrets; throws `secret_unreadable` for one that no key opens any more. */
export async function openSecrets(
  context: Pick<Context, 'keys' | 'records'>,
  project: string,
  places: Record<string, SecretPlace>,
): Promise<Record<string, string>> {
  const values = await Promise.all(
    Object.entries(places).map(async ([variable, { scope, name, version, append }]): Promise<[string, string]> => {
      const row = await variableAt(context.records, project, scope, name, version);
      const value = row && opened(context, project, row);
      // Never left out in silence: the program would go on without it.
      if (value === null || value === undefined) throw new CodedError('secret_unreadable', { name });
      return [variable, value + append];
    }),
  );
  return Object.fromEntries(values);
}

/** Pins what the tasks want of what is set; says all that is missing at once. Work of strangers gets no secret. */
export async function pinSet(
  context: Context,
  db: Db,
  project: ProjectRow,
  line: string,
  tasks: readonly Task[],
): Promise<{ set: PinnedSet; refused: Issue | null }> {
  const wanted = [...new Set(tasks.flatMap(setNames))];
  if (wanted.length === 0) return { set: {}, refused: null };
  const rows = new Map((await variablesNow(db, project.id, [''])).map((row) => [row.name, row]));
  const missing = wanted.filter((name) => !rows.has(name));
  if (missing.length)
    return { set: {}, refused: issue('variable_unset', { names: missing.join(', '), environment: project.name }) };
  const secret = line === 'own' ? undefined : wanted.find((name) => rows.get(name)?.secret);
  if (secret)
    return {
      set: {},
      refused: issue('variable_stranger', {
        name: secret,
        task: tasks.find((task) => setNames(task).includes(secret))?.of ?? '',
      }),
    };
  return {
    set: Object.fromEntries(
      wanted.map((name) => {
        const row = rows.get(name) as VariableRow;
        return [
          name,
          row.secret
            ? {
                version: row.version,
                hash: context.keys.hash(`${project.id} ${name} ${opened(context, project.id, row) ?? ''}`),
              }
            : { value: row.value ?? '' },
        ];
      }),
    ),
    refused: null,
  };
}
