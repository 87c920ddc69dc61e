/** Mending what is live: a branch from it. */
import { branchFromLive, type FromLive as Made } from '../../../engine/runs/forward.js';
import type { Caller } from '../../../records/callers/people.js';
import { FromLive, FromLiveBody } from '../../../wire/runs.js';
import { type App, change, needProject, type Service } from '../../server.js';
import { commitView } from '../../views/basics.js';

export function forwardRoutes(app: App, service: Service): void {
  /** A branch from what is live in an environment; asked for again it is the same. */
  app.post(
    '/api/projects/:project/environments/:name/branch',
    { schema: { body: FromLiveBody, response: { 201: FromLive } } },
    async (request, reply) => {
      const project = await needProject(service, request);
      const { name } = request.params as { name: string };
      let made: Made | null = null;
      return change(
        service,
        request,
        reply,
        'branch.asked',
        201,
        async (db) => {
          const { release, branch, how } = made as Made;
          const commit = await commitView(db, project.id, release.commit);
          return { environment: name, release: release.number, commit, branch, how };
        },
        async () => {
          const actor = (request.caller as Caller).name;
          made = await branchFromLive(service.context, project, {
            environment: name,
            branch: request.body.branch ?? null,
            actor,
          });
        },
      );
    },
  );
}
