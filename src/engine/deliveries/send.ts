/** Sends one message by the way out of its subscription. */
import { sealedPlace } from '../../keys/places.js';
import type { Sent } from '../../core/advance/deliveries.js';
import { type Item, subjectOf, textOf } from '../../core/alerts/words.js';
import { CodedError, registry } from '../../core/errors/errors.js';
import { postPinned } from '../../channels/pinned.js';
import { signEvent } from '../../keys/webhooks.js';
import type { DeliveryRow } from '../../records/deliveries/deliveries.js';
import type { SubscriptionRow } from '../../records/deliveries/subscriptions.js';
import type { Context } from '../context.js';
import { sendStatus } from './statuses.js';

export async function send(context: Context, row: SubscriptionRow, delivery: DeliveryRow): Promise<Sent> {
  try {
    if (row.channel === 'code-host') return await sendStatus(context, row, delivery.number);
    return await sendItems(context, row, delivery.id, delivery.items);
  } catch (error) {
    if (!(error instanceof CodedError)) throw error;
    return { done: false, again: registry[error.issue.code].retry, issue: error.issue };
  }
}

export type Target = Pick<SubscriptionRow, 'id' | 'channel' | 'target' | 'sealed' | 'name'>;

/** Items as mail, or as an event to a webhook: CloudEvents 1.0, signed. */
export async function sendItems(
  context: Context,
  { id: own, channel, target, sealed, name }: Target,
  id: string,
  items: readonly Item[],
): Promise<Sent & { status?: number }> {
  if (channel === 'mail') {
    const text = `${textOf(items)}\n\n-- \nTsunagi at ${context.url}${name ? `, alert ${name}` : ''}\n`;
    return context.channels.mail.send({ to: target, subject: subjectOf(items), text, id });
  }
  const url = new URL(target);
  const body = JSON.stringify({
    specversion: '1.0',
    id,
    source: context.url,
    type: 'dev.tsunagi.alert',
    time: items.at(-1)?.at ?? new Date(context.now()).toISOString(),
    datacontenttype: 'application/json',
    data: {
      alert: name,
      subject: subjectOf(items),
      items: items.map(({ endedAfterMs, ...one }) => ({
        ...one,
        ended: endedAfterMs !== null,
        lastedMs: endedAfterMs,
      })),
    },
  });
  const secret = sealed ? context.keys.decrypt(sealed, sealedPlace('subscriptions', own)) : '';
  return postPinned({
    url: url.href,
    address: await context.channels.check(url.hostname.replace(/^\[|\]$/g, '')),
    headers: { 'content-type': 'application/cloudevents+json', ...signEvent(secret, id, body, context.now()) },
    body,
  });
}
