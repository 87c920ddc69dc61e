/** Lines as an OTLP request for logs, in JSON (OpenTelemetry Protocol 1, ExportLogsServiceRequest; names of the semantic conventions). */
import type { LogBatch } from './lines.js';

const text = (key: string, value: string) => ({ key, value: { stringValue: value } });
/** Nanoseconds since the epoch: 64 bits, as text. */
const nanos = (ms: number): string => `${Math.round(ms)}000000`;

export const otlpRequest = (batches: readonly LogBatch[], now: number) => ({
  resourceLogs: batches.map(({ source, lines }) => ({
    resource: {
      attributes: [
        text('service.namespace', source.project),
        text('service.name', source.part),
        text('service.instance.id', source.instance),
        text('service.version', source.release),
        text('deployment.environment.name', source.environment),
        text('host.name', source.host),
      ],
    },
    scopeLogs: [
      {
        scope: { name: 'tsunagi' },
        logRecords: lines.map((line) => ({
          timeUnixNano: nanos(line.at),
          observedTimeUnixNano: nanos(now),
          body: { stringValue: line.text },
          attributes: [{ key: 'log.line', value: { intValue: String(line.number) } }],
        })),
      },
    ],
  })),
});

/** What a receiver that took only some of it says (ExportLogsPartialSuccess). */
export function rejectedOf(answer: string): { count: number; why: string } | null {
  try {
    const { partialSuccess: partial } = JSON.parse(answer) as {
      partialSuccess?: { rejectedLogRecords?: string | number; errorMessage?: string };
    };
    const count = Number(partial?.rejectedLogRecords ?? 0);
    return Number.isSafeInteger(count) && count > 0
      ? { count, why: String(partial?.errorMessage ?? '').slice(0, 200) }
      : null;
  } catch {
    return null;
  }
}
