/** Jobs of environments: listed, looked at, run and stopped by hand. */
import type { FastifyRequest } from 'fastify';
import { jobUnknown, runJob, stopJob } from '../../../engine/jobs/jobs.js';
import type { Db } from '../../../records/database.js';
import { Job, JobDetail } from '../../../wire/environments/jobs.js';
import { Page } from '../../../wire/parts.js';
import { type App, change, needEnvironment, type Service } from '../../server.js';
import { jobDetail, jobViews } from '../../views/jobs.js';

export function jobRoutes(app: App, service: Service): void {
  const { records } = service.context;
  const path = '/api/projects/:project/environments/:name/jobs';
  const nameOf = (request: FastifyRequest) => (request.params as { job: string }).job;

  const needDetail = async (db: Db, request: FastifyRequest): Promise<JobDetail> => {
    const { project, environment } = await needEnvironment(service, request);
    const found = await jobDetail(db, environment.id, nameOf(request));
    if (!found) throw jobUnknown(project, environment.name, nameOf(request));
    return found;
  };
  const placeOf = async (request: FastifyRequest) => {
    const { project, environment } = await needEnvironment(service, request);
    return { project, environment: environment.name, name: nameOf(request) };
  };

  app.get(path, { schema: { response: { 200: Page(Job) } } }, async (request) => ({
    items: await jobViews(records, (await needEnvironment(service, request)).environment.id),
    next: null,
  }));
  app.get(`${path}/:job`, { schema: { response: { 200: JobDetail } } }, (request) => needDetail(records, request));
  app.post(`${path}/:job/run`, { schema: { response: { 202: JobDetail } } }, async (request, reply) => {
    const place = await placeOf(request);
    return change(service, request, reply, 'job.begun', 202, async (db, actor) => {
      await runJob(db, place, actor);
      return needDetail(db, request);
    });
  });
  app.post(`${path}/:job/stop`, { schema: { response: { 202: JobDetail } } }, async (request, reply) => {
    const place = await placeOf(request);
    return change(service, request, reply, 'job.stop-asked', 202, async (db, actor) => {
      await stopJob(db, place, actor);
      return needDetail(db, request);
    });
  });
}
