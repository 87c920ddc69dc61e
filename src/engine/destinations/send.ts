/** Sends one round of lines by the way out of its destination. */
import { sealedPlace } from '../../keys/places.js';
import { postPinned } from '../../channels/pinned.js';
import { sendSyslog } from '../../channels/syslog.js';
import type { LogsSent } from '../../core/advance/destinations.js';
import type { LogBatch } from '../../core/destinations/lines.js';
import { otlpRequest, rejectedOf } from '../../core/destinations/otlp.js';
import { syslogFrames } from '../../core/destinations/syslog.js';
import { CodedError, issue } from '../../core/errors/errors.js';
import type { DestinationRow } from '../../records/deliveries/destinations.js';
import type { Context } from '../context.js';

export type LogTarget = Pick<DestinationRow, 'id' | 'kind' | 'url' | 'sealed' | 'authorities'>;

/** Bytes of an answer that are read. */
const answerBytes = 64 * 1024;
/** Answers that are about these very lines (OTLP 1, "OTLP/HTTP Response"; RFC 9110); all others may be mended. */
const ofLines = [400, 413, 422];

export async function sendLines(context: Context, target: LogTarget, batches: readonly LogBatch[]): Promise<LogsSent> {
  try {
    const url = new URL(target.url);
    const host = url.hostname.replace(/^\[|\]$/g, '');
    const address = await context.channels.check(host);
    if (target.kind === 'syslog') {
      const tls = url.protocol === 'syslog+tls:';
      const port = Number(url.port) || (tls ? 6514 : 601);
      const frames = batches.flatMap(({ source, lines }) => syslogFrames(source, lines));
      return await sendSyslog({ host, address, port, tls, authorities: target.authorities }, frames);
    }
    const sent = await postPinned({
      url: url.href,
      address,
      headers: { 'content-type': 'application/json', ...headerOf(context, target) },
      body: JSON.stringify(otlpRequest(batches, context.now())),
      keep: answerBytes,
      authorities: target.authorities,
    });
    if (sent.done) {
      const rejected = rejectedOf(sent.text ?? '');
      return { done: true, rejected: rejected?.count ?? 0, why: rejected?.why ?? null };
    }
    return { done: false, final: ofLines.includes(sent.status ?? 0), issue: sent.issue };
  } catch (error) {
    if (!(error instanceof CodedError)) throw error;
    return { done: false, final: false, issue: error.issue };
  }
}

function headerOf(context: Context, { id, sealed }: LogTarget): Record<string, string> {
  if (sealed === null) return {};
  const { name, value } = JSON.parse(context.keys.decrypt(sealed, sealedPlace('destinations', id))) as {
    name: string;
    value: string;
  };
  return { [name]: value };
}

export const rejectedIssue = (where: string, count: number, why: string) =>
  issue('destination_rejected', { where, count, why: why || 'it does not say why' });
