/** Figures in the OpenMetrics text format, for a scraper: what this service took in, and what the records say at that moment. */
import { collectDefaultMetrics, Counter, Gauge, Registry } from 'prom-client';
import type { Figure } from '../../core/figures/figures.js';
import { quantile } from '../../core/figures/histogram.js';
import { labelsOf, type Standing, standing } from '../../records/figures/names.js';
import type { Db } from '../../records/database.js';

export interface Told {
  /** Counts what was taken in here. */
  take(db: Db, figures: readonly Figure[]): Promise<void>;
  /** The whole text, and its type. */
  text(db: Db): Promise<{ type: string; body: string }>;
}

/** Pairs of environment and part that are told apart: beyond them a scraper would suffer. Reviews are one environment. */
const mostLabels = 5_000;

export function openTold(): Told {
  const registry = new Registry<'application/openmetrics-text; version=1.0.0; charset=utf-8'>();
  registry.setContentType(Registry.OPENMETRICS_CONTENT_TYPE);
  const registers = [registry];
  collectDefaultMetrics({ register: registry as never, prefix: 'tsunagi_' });
  const of = ['project', 'environment', 'part'] as const;
  const counter = (name: string, help: string) => new Counter({ name, help, labelNames: of, registers });
  const gauge = <T extends string>(name: string, help: string, labelNames: readonly T[]) =>
    new Gauge({ name, help, labelNames, registers });
  const requests = counter('tsunagi_requests_total', 'Requests that edges have passed on or answered.');
  const errors = counter('tsunagi_request_errors_total', 'Requests answered with a 5xx, or by no program.');
  const sent = counter('tsunagi_response_bytes_total', 'Bytes that edges have sent to clients.');
  const processor = counter('tsunagi_processor_seconds_total', 'Processor time that programs have taken.');
  const time = gauge('tsunagi_answer_seconds', 'Time until an answer began, of the last ten seconds with any.', [
    ...of,
    'quantile',
  ]);
  const memory = gauge('tsunagi_memory_bytes', 'Memory of the program that takes most of a part.', of);
  const runs = gauge('tsunagi_runs', 'Runs that have not ended, by state.', ['state']);
  const tasks = gauge('tsunagi_tasks', 'Tasks that are ready or run.', ['state']);
  const moving = gauge('tsunagi_deployments_moving', 'Deployments on their way.', []);
  const agents = gauge('tsunagi_agents', 'Agents, by whether they have been heard of.', ['alive']);
  const instances = gauge('tsunagi_instances', 'Instances that have not ended, by state.', ['state']);
  const environments = gauge('tsunagi_environments', 'Environments that are live, by health.', ['health']);
  const known = new Set<string>();

  const show = (rows: Standing[]) => {
    const by: Record<string, Gauge<string>> = { runs, tasks, agents, instances, environments };
    for (const one of Object.values(by)) one.reset();
    moving.set(rows.find((row) => row.what === 'moving')?.n ?? 0);
    for (const { what, label, n } of rows) {
      const name = { runs: 'state', tasks: 'state', instances: 'state', agents: 'alive', environments: 'health' }[
        what as string
      ];
      if (name) by[what]?.set({ [name]: label }, n);
    }
  };
  return {
    async take(db, figures) {
      const names = await labelsOf(db, [...new Set(figures.map((one) => one.environment))]);
      for (const one of figures) {
        const place = names.get(one.environment);
        if (!place) continue;
        const labels = { ...place, part: one.part };
        const key = `${labels.project} ${labels.environment} ${labels.part}`;
        if (!known.has(key) && known.size >= mostLabels) continue;
        known.add(key);
        if (one.requests > 0) {
          requests.inc(labels, one.requests);
          errors.inc(labels, one.errors);
          sent.inc(labels, one.bytes);
          for (const share of [0.5, 0.95, 0.99]) {
            const ms = quantile(one.times, share);
            if (ms !== null) time.set({ ...labels, quantile: String(share) }, ms / 1_000);
          }
        }
        if (one.cpu > 0) processor.inc(labels, one.cpu / 1_000);
        if (one.memory > 0) memory.set(labels, one.memory);
      }
    },
    async text(db) {
      show(await standing(db));
      return { type: registry.contentType, body: await registry.metrics() };
    },
  };
}
