/** From a repository to its first live address: looks at sources, proposals, drafts; renaming, pausing and removing projects. */
import { Type } from '@sinclair/typebox';
import type { FastifyRequest } from 'fastify';
import type { DefinitionIssue } from '../../../core/definition/parse.js';
import { lookAtDefinition } from '../../../engine/promotion/look-ahead.js';
import { parseApart } from '../../../engine/runs/parse.js';
import { CodedError, wording } from '../../../core/errors/errors.js';
import { commitDraft, type DraftState, draftState, keepDraft } from '../../../engine/sources/drafts.js';
import {
  type Look,
  lookAtSource,
  recogniseCommit,
  recogniseSource,
  type Recognised as Found,
} from '../../../engine/sources/remotes.js';
import { repositoryOf } from '../../../engine/context.js';
import { compareBranches } from '../../../engine/sources/sources.js';
import { branchHead } from '../../../records/projects/sources.js';
import type { Caller } from '../../../records/callers/people.js';
import { pollSoon, type ProjectRow } from '../../../records/projects/projects.js';
import {
  DefinitionCheck,
  DefinitionText,
  Draft,
  DraftBody,
  RecogniseBody,
  Recognised,
  SourceBranches,
  SourceLook,
} from '../../../wire/guide.js';
import { type App, callerKey, change, needProject, type Service } from '../../server.js';
import { factsView, said } from '../../views/basics.js';

/** Answers to questions of a proposal, by their ids. */
const Answers = Type.Object({}, { additionalProperties: Type.String({ maxLength: 400 }) });

export function guideRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;
  const lookOf = (body: SourceLook): Look => ({
    url: body.url,
    credential: body.credential ?? null,
    privateAllowed: body.allowPrivate === true,
  });

  app.post(
    '/api/sources/branches',
    { schema: { body: SourceLook, response: { 200: SourceBranches } } },
    async (request): Promise<SourceBranches> => {
      const { branches, main } = await lookAtSource(context, lookOf(request.body));
      return { branches: [...branches.keys()].sort(), main };
    },
  );

  app.post(
    '/api/sources/proposal',
    { schema: { body: RecogniseBody, response: { 200: Recognised } } },
    async (request) => {
      const body = request.body;
      return recognisedView(await recogniseSource(context, lookOf(body), body.branch ?? null, body.answers ?? {}));
    },
  );

  app.post(
    '/api/definitions/check',
    { schema: { body: DefinitionText, response: { 200: DefinitionCheck } }, bodyLimit: 1024 * 1024 },
    async (request): Promise<DefinitionCheck> => {
      const { text, project = 'project' } = request.body;
      const { definition, issues } = await parseApart(context, callerKey(request), text);
      const ahead = definition && (await lookAtDefinition(context, definition, project));
      return {
        issues: issues.map(issueView),
        environments: (ahead?.environments ?? []).map(({ cost, ...one }) => ({
          ...one,
          memoryCost: cost?.memory ?? null,
          processorCostAtMost: cost?.processorAtMost ?? null,
        })),
        currency: ahead?.prices?.currency ?? null,
      };
    },
  );

  /** What is recognised in the newest commit of a project that is there. */
  app.get(
    '/api/projects/:project/proposal',
    { schema: { querystring: Answers, response: { 200: Recognised } } },
    async (request) => {
      const project = await needProject(service, request);
      const head = await branchHead(records, project.id, project.main_branch);
      if (!head) throw new CodedError('source_empty', { url: project.url ?? `${service.url}/git/${project.name}` });
      return recognisedView(
        await recogniseCommit(context, repositoryOf(context, project), head, project.main_branch, {
          ...(project.folder ? { folder: project.folder } : {}),
          ...request.query,
        }),
      );
    },
  );

  app.get('/api/projects/:project/draft', { schema: { response: { 200: Draft } } }, async (request) => {
    const project = await needProject(service, request);
    return draftView(project, await draftState(context, project));
  });

  app.post(
    '/api/projects/:project/draft',
    { schema: { body: DraftBody, response: { 200: Draft } }, bodyLimit: 1024 * 1024 },
    async (request, reply) => {
      const project = await needProject(service, request);
      const { text, look } = request.body;
      const state = await draftState(context, project, text);
      if (look) return draftView(project, state);
      const wrong = state.issues.find((one) => one.severity === 'error');
      if (wrong) throw new CodedError(wrong.code, wrong.data);
      return change(service, request, reply, 'definition.drafted', 200, async (db, actor) => {
        await keepDraft(db, project, text, actor);
        return draftView(project, state);
      });
    },
  );

  app.post('/api/projects/:project/draft/commit', { schema: { response: { 200: Draft } } }, async (request) => {
    const project = await needProject(service, request);
    const { name } = request.caller as Caller;
    await commitDraft(context, project, name);
    await compareBranches(context, project, name);
    return draftView(project, await draftState(context, project));
  });

  /** Looks at a polled source now. */
  app.post('/api/projects/:project/fetch', async (request: FastifyRequest, reply) => {
    const project = await needProject(service, request);
    return change(service, request, reply, 'source.asked', 202, async (db) => {
      await pollSoon(db, project.id);
      return {};
    });
  });
}

const recognisedView = ({ proposal, commit, ...rest }: Found): Recognised => ({
  ...rest,
  commit: factsView(commit),
  found: proposal.found,
  text: proposal.text,
  reasons: proposal.reasons,
  questions: proposal.questions,
  notes: proposal.notes.flatMap((one) => said(one) ?? []),
});

const issueView = ({ severity, line, column, code, data }: DefinitionIssue) => ({
  code,
  data,
  ...wording({ code, data }),
  severity,
  line,
  column,
});

const draftView = (project: ProjectRow, state: DraftState): Draft => ({
  ...state,
  issues: state.issues.map(issueView),
  committable: project.source === 'hosted',
});
