/** What people ask of alerts. Each is tried before it is kept. */
import { newId } from '../../records/ids.js';
import { sealedPlace } from '../../keys/places.js';
import { randomUUID } from 'node:crypto';
import { isMailAddress } from '../../channels/mail.js';
import { CodedError, type Issue, wording } from '../../core/errors/errors.js';
import { alertTopics, type AlertTopic, type OwnTopic } from '../../core/states.js';
import { newEventSecret } from '../../keys/webhooks.js';
import { addSubscription, countAlerts, type SubscriptionRow } from '../../records/deliveries/subscriptions.js';
import { recordEvents } from '../../records/events.js';
import type { Context, Db } from '../context.js';
import { sendItems, type Target } from './send.js';

/** Alerts of one installation, people's own among them. */
const most = 1_000;

export interface AskedTarget {
  mail?: string | undefined;
  webhook?: string | undefined;
}

/** Where an alert goes, with a fresh secret for a webhook. Throws when it can't be. */
export function targetOf(context: Context, { mail, webhook }: AskedTarget): Target & { secret: string | null } {
  const id = newId();
  if ((mail === undefined) === (webhook === undefined)) throw new CodedError('alert_target');
  if (mail !== undefined) {
    if (!isMailAddress(mail)) throw new CodedError('mail_address', { address: mail.slice(0, 100) });
    return { id, channel: 'mail', target: mail, sealed: null, name: null, secret: null };
  }
  const secret = newEventSecret();
  return {
    id,
    channel: 'webhook',
    target: webhookUrl(webhook as string),
    sealed: context.keys.encrypt(secret, sealedPlace('subscriptions', id)),
    name: null,
    secret,
  };
}

function webhookUrl(text: string): string {
  const refuse = (why: string) => new CodedError('url_refused', { url: text.slice(0, 200), why });
  let url: URL;
  try {
    url = new URL(text);
  } catch {
    throw refuse('it is no address.');
  }
  if (url.protocol !== 'https:' && url.protocol !== 'http:') throw refuse('events are sent over https or http.');
  if (url.username || url.password) throw refuse('it has a name or password in it.');
  url.hash = '';
  return url.href;
}

export interface Tried {
  accepted: boolean;
  /** `accepted`, `refused`, `timed out`, in words; nothing of what it answered. */
  says: string;
  issue: Issue | null;
}

/** The same, and throws what stands in its way. */
export async function needTarget(context: Context, target: Target): Promise<Tried> {
  const tried = await tryTarget(context, target);
  if (tried.issue) throw new CodedError(tried.issue.code, tried.issue.data);
  return tried;
}

/** Sends a test now, once. */
export async function tryTarget(context: Context, target: Target): Promise<Tried> {
  const at = new Date(context.now()).toISOString();
  const item = {
    topic: 'test' as const,
    place: target.name ?? 'Tsunagi',
    endedAfterMs: null,
    says: 'Somebody has asked for this message, to see whether it arrives.',
    url: context.url,
    at,
  };
  const sent = await sendItems(context, target, randomUUID(), [item]);
  if (sent.done) return { accepted: true, says: 'accepted', issue: null };
  // A webhook does not know its secret yet: that it asks for one is an answer.
  if (sent.status === 401 || sent.status === 403)
    return { accepted: true, says: 'it answers, and refuses what it cannot check yet', issue: null };
  return { accepted: false, says: wording(sent.issue).says, issue: sent.issue };
}

export interface AskedAlert {
  name: string | null;
  topics: readonly string[];
  project: string | null;
  environment: string | null;
  person: string | null;
  actor: string;
}

export const checkedTopics = (topics: readonly string[] | undefined): AlertTopic[] => {
  const wrong = (topics ?? []).find((one) => !(alertTopics as readonly string[]).includes(one));
  if (wrong !== undefined) throw new CodedError('alert_topic', { topic: wrong, topics: alertTopics.join(', ') });
  return [...new Set((topics ?? alertTopics) as AlertTopic[])];
};

/** Keeps one that was tried. Throws `name_taken`. */
export async function addAlert(db: Db, target: Target, asked: AskedAlert): Promise<SubscriptionRow> {
  if ((await countAlerts(db)) >= most) throw new CodedError('alerts_enough', { most });
  const row = await addSubscription(db, {
    id: target.id,
    ...asked,
    topics: asked.topics as (AlertTopic | OwnTopic)[],
    channel: target.channel as 'mail' | 'webhook',
    target: target.target,
    sealed: target.sealed,
  });
  if (!row) throw new CodedError('name_taken', { what: 'alert', name: asked.name ?? '' });
  if (asked.name !== null)
    await recordEvents(db, {
      type: 'alert.added',
      project: asked.project,
      subject: asked.name,
      actor: asked.actor,
      data: { channel: target.channel, topics: asked.topics },
    });
  return row;
}
