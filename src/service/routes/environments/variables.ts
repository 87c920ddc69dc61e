import { CodedError, wording } from '../../../core/errors/errors.js';
import { hintFor } from '../../../core/nearest.js';
import { changesLimit, secretName, type VariableChange } from '../../../core/variables/change.js';
import { type DotenvIssue, parseDotenv } from '../../../core/variables/dotenv.js';
import { settable } from '../../../core/variables/resolve.js';
import { changeVariables, previewChanges } from '../../../engine/environments/variables.js';
import type { Db } from '../../../records/database.js';
import { environmentsOf } from '../../../records/deployments/environments.js';
import { mainDefinition, type ProjectRow } from '../../../records/projects/projects.js';
import { variablesNow } from '../../../records/deployments/variables.js';
import {
  VariableChangeBody,
  VariableChanges,
  Variables,
  type WantedVariable,
} from '../../../wire/environments/variables.js';
import { type App, change, needProject, type Service } from '../../server.js';

export function variableRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  app.get(
    '/api/projects/:project/variables',
    { schema: { response: { 200: Variables } } },
    async (request): Promise<Variables> => {
      const project = await needProject(service, request);
      const [rows, environments] = await Promise.all([variablesNow(records, project.id), scopesOf(records, project)]);
      return {
        items: rows.map((row) => ({
          name: row.name,
          environment: row.scope || null,
          secret: row.secret,
          value: row.value,
          version: row.version,
          by: row.actor,
          at: row.at.toISOString(),
        })),
        wanted: await wanted(records, project, environments, rows),
        environments,
      };
    },
  );

  app.post(
    '/api/projects/:project/variables',
    { schema: { body: VariableChangeBody, response: { 200: VariableChanges } }, bodyLimit: 2 * 1024 * 1024 },
    async (request, reply) => {
      const project = await needProject(service, request);
      const asked = await read(project, request.body);
      const wrong = asked.issues.find((one) => one.severity === 'error');
      if (wrong) throw new CodedError(wrong.code, wrong.data);
      return change(service, request, reply, 'variables.changed', 200, async (db, actor) => ({
        ...(await changeVariables(context, db, project, asked.scope, asked.changes, actor)),
        issues: asked.issues.map(issueView),
      }));
    },
  );

  app.post(
    '/api/projects/:project/variables/preview',
    { schema: { body: VariableChangeBody, response: { 200: VariableChanges } }, bodyLimit: 2 * 1024 * 1024 },
    async (request): Promise<VariableChanges> => {
      const project = await needProject(service, request);
      const { scope, changes, issues } = await read(project, request.body);
      const list = await previewChanges(context, records, project, scope, changes);
      return {
        version: null,
        changes: list.map(({ name, what, secret }) => ({ name, what, secret })),
        issues: issues.map(issueView),
      };
    },
  );

  /** What is asked for, as one list. A name that the definition calls a secret is one. */
  async function read(
    project: ProjectRow,
    { environment, set = [], remove = [], text, secrets }: VariableChangeBody,
  ): Promise<{ scope: string; changes: VariableChange[]; issues: DotenvIssue[] }> {
    const environments = await scopesOf(records, project);
    if (environment !== null && !environments.includes(environment))
      throw new CodedError('not_found', {
        what: `The environment ${project.name}/${environment}`,
        hint: hintFor(environment, environments),
      });
    const plans = (await mainDefinition(records, project.id))?.model.release?.variables ?? {};
    const declared = (name: string) => {
      const plan = plans[name];
      return plan?.kind === 'set' && plan.secret === true;
    };
    const { values, issues } = text === undefined ? { values: {}, issues: [] } : parseDotenv(text);
    const changes = [
      ...Object.entries(values).map(([name, value]) => ({
        name,
        value,
        secret: declared(name) || (secrets ? secrets.includes(name) : secretName(name)),
      })),
      ...set.map(({ name, value, secret }) => ({ name, value, secret: declared(name) || secret === true })),
      ...remove.map((name) => ({ name, value: null, secret: false })),
    ];
    if (changes.length > changesLimit)
      throw new CodedError('body_invalid', { detail: `at most ${changesLimit} variables are changed at once.` });
    return { scope: environment ?? '', changes, issues };
  }
}

const issueView = ({ severity, line, ...one }: DotenvIssue) => ({ ...one, ...wording(one), severity, line });

/** Environments that are there or that the newest definition of main names; reviews go by the name of their plan. */
async function scopesOf(db: Db, project: ProjectRow): Promise<string[]> {
  const plans = Object.keys((await mainDefinition(db, project.id))?.model.environments ?? {});
  const made = (await environmentsOf(db, project.id)).map((one) => one.name);
  return [...new Set([...plans, ...made])];
}

async function wanted(
  db: Db,
  project: ProjectRow,
  environments: readonly string[],
  rows: readonly { scope: string; name: string }[],
): Promise<WantedVariable[]> {
  const model = (await mainDefinition(db, project.id))?.model;
  const plans = model?.release?.variables ?? {};
  const standing = environments.filter((name) => model?.environments[name]);
  return settable(plans).map((name) => {
    const plan = plans[name];
    const own = plan?.kind === 'set' ? plan : null;
    const has = (scope: string) => rows.some((row) => row.name === name && row.scope === scope);
    return {
      name,
      secret: own?.secret ?? false,
      about: own?.about ?? null,
      default: own?.default ?? null,
      missing: (own?.default ?? null) !== null || has('') ? [] : standing.filter((scope) => !has(scope)),
    };
  });
}
