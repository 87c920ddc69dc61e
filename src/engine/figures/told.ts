/**
 * Figures for a scraper: what this service took in, and what the records say at that moment. In the OpenMetrics text format where it is
 * asked for, else in the one before it (text format 0.0.4), which every scraper reads.
 */
import { Counter, Gauge, Registry } from 'prom-client';
import type { Figure } from '../../core/figures/figures.js';
import { quantile } from '../../core/figures/histogram.js';
import { labelsOf, type Standing, standing } from '../../records/figures/names.js';
import type { Db } from '../../records/database.js';

export interface Told {
  /** Counts what was taken in here. */
  take(db: Db, figures: readonly Figure[]): Promise<void>;
  /** The whole text, and its type; `open`: in the OpenMetrics format. */
  text(db: Db, open: boolean): Promise<{ type: string; body: string }>;
}

interface Labels {
  project: string;
  environment: string;
  part: string;
}

/** Pairs of environment and part that are told apart: beyond them a scraper would suffer. Reviews are one environment. */
const mostLabels = 5_000;

export function openTold(): Told {
  const openText = new Registry<'application/openmetrics-text; version=1.0.0; charset=utf-8'>();
  openText.setContentType(Registry.OPENMETRICS_CONTENT_TYPE);
  // A counter goes by another name in each of them: they can't share one.
  const books = { open: makeBook(openText as unknown as Registry), plain: makeBook(new Registry()) };
  const both = Object.values(books);
  const known = new Set<string>();
  return {
    async take(db, figures) {
      const names = await labelsOf(db, [...new Set(figures.map((one) => one.environment))]);
      for (const one of figures) {
        const place = names.get(one.environment);
        const key = `${place?.project} ${place?.environment} ${one.part}`;
        if (!place || (!known.has(key) && known.size >= mostLabels)) continue;
        known.add(key);
        for (const book of both) book.take({ ...place, part: one.part }, one);
      }
    },
    async text(db, open) {
      const book = open ? books.open : books.plain;
      book.show(await standing(db));
      return { type: book.registry.contentType, body: await book.registry.metrics() };
    },
  };
}

interface Book {
  registry: Registry;
  take(labels: Labels, one: Figure): void;
  show(rows: readonly Standing[]): void;
}

function makeBook(registry: Registry): Book {
  const registers = [registry];
  const of = ['project', 'environment', 'part'] as const;
  const counter = (name: string, help: string) => new Counter({ name, help, labelNames: of, registers });
  const gauge = <T extends string>(name: string, help: string, labelNames: readonly T[]) =>
    new Gauge({ name, help, labelNames, registers });
  const requests = counter('tsunagi_requests_total', 'Requests that edges have passed on or answered.');
  const errors = counter('tsunagi_request_errors_total', 'Requests answered with a 5xx, or by no program.');
  const sent = counter('tsunagi_response_bytes_total', 'Bytes that edges have sent to clients.');
  const processor = counter('tsunagi_processor_seconds_total', 'Processor time that programs have taken.');
  const time = gauge('tsunagi_answer_seconds', 'Time within which a share of the answers began, of the last slot.', [
    ...of,
    'share',
  ]);
  const memory = gauge('tsunagi_memory_bytes', 'Memory of a program of the part, as it was seen last.', of);
  const counts: Record<string, { gauge: Gauge<string>; label: string }> = {
    runs: { gauge: gauge('tsunagi_runs', 'Runs that have not ended.', ['state']), label: 'state' },
    tasks: { gauge: gauge('tsunagi_tasks', 'Tasks that are ready or run.', ['state']), label: 'state' },
    agents: { gauge: gauge('tsunagi_agents', 'Agents, by whether they are heard of.', ['alive']), label: 'alive' },
    instances: { gauge: gauge('tsunagi_instances', 'Instances that have not ended.', ['state']), label: 'state' },
    environments: { gauge: gauge('tsunagi_environments', 'Environments that are live.', ['health']), label: 'health' },
  };
  const moving = gauge('tsunagi_deployments_moving', 'Deployments on their way.', []);
  const resident = gauge('tsunagi_service_memory_bytes', 'Memory that this service takes.', []);
  const busy = new Counter({
    name: 'tsunagi_service_processor_seconds_total',
    help: 'Processor time that this service has taken.',
    registers,
  });
  let busySeconds = 0;
  return {
    registry,
    take(labels, one) {
      if (one.requests > 0) {
        requests.inc({ ...labels }, one.requests);
        errors.inc({ ...labels }, one.errors);
        sent.inc({ ...labels }, one.bytes);
        for (const share of [0.5, 0.95, 0.99]) {
          const ms = quantile(one.times, share);
          if (ms !== null) time.set({ ...labels, share: String(share) }, ms / 1_000);
        }
      }
      if (one.cpu > 0) processor.inc({ ...labels }, one.cpu / 1_000);
      if (one.memory > 0) memory.set({ ...labels }, one.memory);
    },
    show(rows) {
      for (const one of Object.values(counts)) one.gauge.reset();
      for (const { what, label, n } of rows) counts[what]?.gauge.set({ [counts[what].label]: label }, n);
      moving.set(rows.find((row) => row.what === 'moving')?.n ?? 0);
      resident.set(process.memoryUsage.rss());
      const { user, system } = process.cpuUsage();
      busy.inc(Math.max(0, (user + system) / 1e6 - busySeconds));
      busySeconds = (user + system) / 1e6;
    },
  };
}
