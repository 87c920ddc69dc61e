/** Prices, and what environments cost this month. */
import { costOf, forecast, monthOf, type Prices, savedBySleep } from '../../../core/cost/cost.js';
import { pricesNow, type PriceRow, savedIn, setPrices, takenIn } from '../../../records/cost/cost.js';
import { recordEvents } from '../../../records/events.js';
import { rolledUp } from '../../../records/figures/figures.js';
import { findProject } from '../../../records/projects/projects.js';
import { Cost, CostQuery, PricesBody, PricesView } from '../../../wire/environments/cost.js';
import { type App, change, notFound, type Service } from '../../server.js';

const viewOf = ({ currency, memory, cpu, actor, at }: PriceRow) => ({
  currency,
  memory,
  cpu,
  by: actor,
  at: at.toISOString(),
});

export function costRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;

  app.post('/api/prices', { schema: { body: PricesBody, response: { 200: PricesView } } }, async (request, reply) =>
    change(service, request, reply, 'prices.set', 200, async (db, actor) => {
      const prices: Prices = request.body;
      await setPrices(db, prices, actor);
      await recordEvents(db, { type: 'prices.set', project: null, subject: 'prices', actor, data: { ...prices } });
      return viewOf((await pricesNow(db)) as PriceRow);
    }),
  );

  app.get('/api/cost', { schema: { querystring: CostQuery, response: { 200: Cost } } }, async (request) => {
    const { project: name } = request.query;
    const project = name === undefined ? null : await findProject(records, name);
    if (name !== undefined && !project) throw notFound('project', name);
    const { from, until } = monthOf(context.now());
    const prices = await pricesNow(records);
    // Whole hours alone: what is rolled up.
    const counted = Math.max(from, (await rolledUp(records, 60)) * 1_000);
    const taken = await takenIn(records, from, until, project?.id ?? null);
    return {
      prices: prices && viewOf(prices),
      from: new Date(from).toISOString(),
      counted: new Date(counted).toISOString(),
      until: new Date(until).toISOString(),
      items: taken.map((one) => {
        const soFar = prices && costOf(one, prices);
        return {
          project: one.project,
          environment: one.environment,
          memory: one.memory,
          cpu: one.cpu,
          soFar,
          forecast: soFar === null ? null : forecast(soFar, one.since, Math.max(counted, one.since), until),
          asleep:
            soFar !== null && one.review
              ? savedBySleep(soFar, one.hours, one.since, Math.min(counted, one.closed ?? counted))
              : null,
        };
      }),
      saved: (await savedIn(records, from, project?.id ?? null)).map((one) => ({
        ...one,
        amount: prices && costOf({ memory: 0, cpu: one.hours }, prices),
      })),
    };
  });
}
