/** What people ask of destinations. Each is tried before it is kept. */
import { newId } from '../../records/ids.js';
import { sealedPlace } from '../../keys/places.js';
import { CodedError, wording } from '../../core/errors/errors.js';
import type { DestinationKind } from '../../core/states.js';
import { addDestination, type DestinationRow, listDestinations } from '../../records/deliveries/destinations.js';
import { recordEvents } from '../../records/events.js';
import type { Context, Db } from '../context.js';
import { type LogTarget, sendLines } from './send.js';

/** Destinations of one installation. */
const most = 50;

export interface AskedDestination {
  name: string;
  syslog?: string | undefined;
  otlp?: string | undefined;
  header?: { name: string; value: string } | undefined;
  authorities?: string | undefined;
}

const protocols: Record<DestinationKind, readonly string[]> = {
  syslog: ['syslog+tls:', 'syslog:'],
  otlp: ['https:', 'http:'],
};

/** Where logs would go. Throws when they can't. */
export function logTargetOf(context: Context, asked: AskedDestination): LogTarget {
  const id = newId();
  const { syslog, otlp, header, authorities = null } = asked;
  if ((syslog === undefined) === (otlp === undefined)) throw new CodedError('destination_target');
  const kind = syslog === undefined ? 'otlp' : 'syslog';
  if (kind === 'syslog' && header) throw new CodedError('destination_header');
  if (authorities !== null && !authorities.includes('-----BEGIN CERTIFICATE-----'))
    throw new CodedError('body_invalid', { detail: 'the authorities are no certificates in PEM' });
  return {
    id,
    kind,
    url: urlOf(kind, (syslog ?? otlp) as string),
    sealed: header ? context.keys.encrypt(JSON.stringify(header), sealedPlace('destinations', id)) : null,
    authorities,
  };
}

function urlOf(kind: DestinationKind, text: string): string {
  const refuse = (why: string) => new CodedError('url_refused', { url: text.slice(0, 200), why });
  let url: URL;
  try {
    url = new URL(text);
  } catch {
    throw refuse('it is no address.');
  }
  const known = protocols[kind];
  if (!known.includes(url.protocol)) throw refuse(`it begins with ${known.map((one) => `${one}//`).join(' or ')}.`);
  if (url.username || url.password) throw refuse('it has a name or password in it.');
  if (!url.hostname) throw refuse('it names no host.');
  url.hash = '';
  // The path that a receiver has for logs (OTLP 1, "OTLP/HTTP Request").
  if (kind === 'otlp' && url.pathname === '/') url.pathname = '/v1/logs';
  return url.href;
}

export interface TriedDestination {
  accepted: boolean;
  says: string;
}

/** Sends one line now, once. */
export async function tryDestination(context: Context, target: LogTarget, name: string): Promise<TriedDestination> {
  const sent = await sendTest(context, target, name);
  return sent.done ? { accepted: true, says: 'accepted' } : { accepted: false, says: wording(sent.issue).says };
}

export async function needDestination(context: Context, target: LogTarget, name: string): Promise<void> {
  const sent = await sendTest(context, target, name);
  if (!sent.done) throw new CodedError(sent.issue.code, sent.issue.data);
}

const sendTest = (context: Context, target: LogTarget, name: string) =>
  sendLines(context, target, [
    {
      source: {
        project: '-',
        environment: '-',
        host: new URL(context.url).hostname,
        part: 'tsunagi',
        instance: '-',
        release: '-',
      },
      lines: [
        { at: context.now(), number: 1, text: `A test of the log destination ${name}: somebody has asked for it.` },
      ],
    },
  ]);

/** Keeps one that was tried. */
export async function keepDestination(
  db: Db,
  target: LogTarget,
  asked: { name: string; project: string | null; environment: string | null; actor: string },
): Promise<DestinationRow> {
  if ((await listDestinations(db)).length >= most) throw new CodedError('destinations_enough', { most });
  const row = await addDestination(db, { ...target, ...asked });
  if (!row) throw new CodedError('name_taken', { what: 'destination', name: asked.name });
  await recordEvents(db, {
    type: 'destination.added',
    project: asked.project,
    subject: asked.name,
    actor: asked.actor,
    data: { kind: target.kind, to: new URL(target.url).host },
  });
  return row;
}
