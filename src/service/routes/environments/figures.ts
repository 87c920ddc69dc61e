/** Figures: what edges and agents send, and lines over time for people. */
import { CodedError } from '../../../core/errors/errors.js';
import type { Figure } from '../../../core/figures/figures.js';
import { linesOf, takeFigures } from '../../../engine/figures/figures.js';
import { grantOf } from '../../../records/callers/people.js';
import { hostsOf, instancesByIds, livedIn, restartedIn } from '../../../records/figures/names.js';
import { AgentFigures, EdgeFigures, FigureLines, FigureQuery } from '../../../wire/environments/figures.js';
import { said } from '../../views/basics.js';
import { type App, needAgent, needEnvironment, type Service, tokenOf } from '../../server.js';

const hour = 3_600;
/** Seconds over which lines may be asked for. */
const longest = 32 * 86_400;
/** Batches that a sender may have as large as this. */
const bodyLimit = 8 * 1024 * 1024;

export function figureRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  app.post('/api/edge/figures', { schema: { body: EdgeFigures }, bodyLimit }, async (request, reply) => {
    const { name, boot, batch, figures, uses = [], slices = [] } = request.body;
    const grant = await grantOf(records, tokenOf(request));
    if (grant?.name !== name)
      throw new CodedError('token_grant', { name: grant?.name ?? 'this edge', what: `the name ${name}` });
    const hosts = await hostsOf(records, [...new Set([...figures, ...uses].map((one) => one.host))]);
    const list = figures.flatMap(({ host, ...one }): Figure[] => {
      const environment = hosts.get(host);
      return environment ? [{ ...one, environment, cpu: 0, memory: 0 }] : [];
    });
    const used = uses.flatMap(({ host, at }) => {
      const environment = hosts.get(host);
      return environment ? [{ environment, at }] : [];
    });
    await takeFigures(context, { sender: `edge ${name}`, boot, batch }, list, used, slices);
    reply.status(204);
  });

  app.post('/api/agent/figures', { schema: { body: AgentFigures }, bodyLimit }, async (request, reply) => {
    const { boot, batch, figures } = request.body;
    const agent = await needAgent(service, request);
    const known = await instancesByIds(
      records,
      agent.id,
      figures.map((one) => one.instance),
    );
    const list = figures.flatMap(({ at, instance, cpu, memory }): Figure[] => {
      const of = known.get(instance);
      return of ? [{ at, instance, ...of, requests: 0, errors: 0, bytes: 0, times: [], cpu, memory }] : [];
    });
    await takeFigures(context, { sender: `agent ${agent.name}`, boot, batch }, list);
    reply.status(204);
  });

  app.get('/metrics', async (request, reply) => {
    const open = (request.headers.accept ?? '').includes('application/openmetrics-text');
    const { type, body } = await context.told.text(records, open);
    return reply.type(type).send(body);
  });

  app.get(
    '/api/projects/:project/environments/:name/figures',
    { schema: { querystring: FigureQuery, response: { 200: FigureLines } } },
    async (request): Promise<FigureLines> => {
      const { environment } = await needEnvironment(service, request);
      const { part = null, by = 'part' } = request.query;
      const until = Math.floor((request.query.until ? Date.parse(request.query.until) : context.now()) / 1_000);
      const from = request.query.from ? Math.floor(Date.parse(request.query.from) / 1_000) : until - hour;
      if (!(from < until && until - from <= longest))
        throw new CodedError('body_invalid', { detail: 'from must be before until, and not more than 32 days.' });
      const lines = await linesOf(records, environment.id, { from, until, part, by });
      const names = await instancesByIds(
        records,
        null,
        lines.series.flatMap((one) => one.instance ?? []),
      );
      const marks = await livedIn(records, environment.id, from, until);
      const restarts = await restartedIn(records, environment.id, from, until, part);
      return {
        from: new Date(lines.from * 1_000).toISOString(),
        widthMs: lines.width * 1_000,
        points: lines.points,
        series: lines.series.map((one) => ({
          ...one,
          instance: one.instance && (names.get(one.instance)?.label ?? one.instance),
        })),
        marks: marks.map((one) => ({ ...one, at: one.at.toISOString() })),
        restarts: restarts.map((one) => ({ ...one, at: one.at.toISOString(), issue: said(one.issue) })),
      };
    },
  );
}
