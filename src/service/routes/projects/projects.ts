import { newId } from '../../../records/ids.js';
import { sealedPlace } from '../../../keys/places.js';
import { newEventSecret } from '../../../keys/webhooks.js';
import { pageNames } from '../../../core/names.js';
import { CodedError } from '../../../core/errors/errors.js';
import { unsafePath } from '../../../core/paths.js';
import { beginProject } from '../../../engine/sources/beginnings.js';
import { compareBranches } from '../../../engine/sources/sources.js';
import { checkDraft } from '../../../engine/sources/drafts.js';
import { ensureRepository } from '../../../engine/context.js';
import { sealCredential } from '../../../engine/sources/credentials.js';
import { lookAtSource } from '../../../engine/sources/remotes.js';
import { parseRemote } from '../../../git/remote.js';
import { listAgents } from '../../../records/callers/agents.js';
import type { Caller } from '../../../records/callers/people.js';
import { addProject, findProject, listProjects } from '../../../records/projects/projects.js';
import { AddedProject, NewProject, Project } from '../../../wire/projects.js';
import { AgentView, Board } from '../../../wire/overview.js';
import { Page } from '../../../wire/parts.js';
import { type App, callerKey, change, needProject, type Service } from '../../server.js';
import { projectView, said } from '../../views/basics.js';
import { boardView } from '../../views/board.js';

export function projectRoutes(app: App, service: Service): void {
  const { records, keys } = service.context;

  app.get('/api/board', { schema: { response: { 200: Board } } }, (request) =>
    boardView(service, records, (request.caller as Caller).project),
  );

  app.get('/api/projects', { schema: { response: { 200: Page(Project) } } }, async (request) => {
    const { project } = request.caller as Caller;
    return {
      items: (await listProjects(records))
        .filter((row) => !project || row.id === project)
        .map((row) => projectView(service, row)),
      next: null,
    };
  });

  app.get('/api/projects/:project', { schema: { response: { 200: Project } } }, async (request) =>
    projectView(service, await needProject(service, request)),
  );

  app.post(
    '/api/projects',
    { schema: { body: NewProject, response: { 201: AddedProject } }, bodyLimit: 1024 * 1024 },
    async (request, reply) => {
      const body = request.body;
      const folder = (body.folder ?? '').replace(/\/$/, '');
      const why = folder ? unsafePath(folder) : null;
      if (why) throw new CodedError('body_invalid', { detail: `folder: ${why}.` });
      if (body.source !== 'hosted') parseRemote(body.url ?? '');
      else if (body.url) throw new CodedError('body_invalid', { detail: 'a hosted project has no url.' });
      if (body.begin !== undefined && body.source !== 'hosted')
        throw new CodedError('body_invalid', {
          detail: 'only a hosted project begins with something of this service.',
        });
      if (pageNames.has(body.name)) throw new CodedError('name_unusable', { name: body.name });
      if (body.draft !== undefined) await checkDraft(service.context, callerKey(request), body.draft);
      const secret = body.source !== 'hosted' ? newEventSecret() : null;
      // What can't be reached is said before anything is kept.
      if (body.source !== 'hosted')
        await lookAtSource(
          service.context,
          { url: body.url ?? '', credential: body.credential ?? null, privateAllowed: body.allowPrivate === true },
          { empty: true },
        );
      const added = await change(service, request, reply, 'project.added', 201, async (db, actor) => {
        const id = newId();
        const row = await addProject(
          db,
          {
            id,
            name: body.name,
            source: body.source,
            mainBranch: body.mainBranch ?? 'main',
            folder,
            url: body.url ?? null,
            eventSecret: secret ? keys.encrypt(secret, sealedPlace('projects.event_secret', id)) : null,
            credential: sealCredential(keys, id, body.credential ?? null),
            privateAllowed: body.allowPrivate === true,
            draft: body.draft ?? null,
            beginning: body.begin ?? null,
          },
          actor,
        );
        if (!row) throw new CodedError('name_taken', { what: 'project', name: body.name });
        await ensureRepository(service.context, row);
        return { ...projectView(service, row), eventSecret: secret };
      });
      if (body.begin !== undefined) await begin(body.name, (request.caller as Caller).name);
      return added;
    },
  );

  /** What fails here is made up for by the sweep of hosted projects. */
  async function begin(name: string, actor: string): Promise<void> {
    const project = await findProject(records, name);
    if (!project) return;
    try {
      await beginProject(service.context, project, actor);
      await compareBranches(service.context, project, actor);
    } catch (error) {
      service.context.log.warn({ project: name, error: String(error) }, 'its first commit is made a little later');
    }
  }

  app.get('/api/agents', { schema: { response: { 200: Page(AgentView) } } }, async () => ({
    items: (await listAgents(records)).map(
      ({ name, takes, slots, address, tools, base, sandbox, seen_at, alive, full_issue }) => ({
        name,
        takes,
        slots,
        address,
        tools,
        base,
        sandbox,
        seenAt: seen_at.toISOString(),
        alive,
        full: said(full_issue),
      }),
    ),
    next: null,
  }));
}
