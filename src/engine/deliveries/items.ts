/** One event as people are told of it. */
import type { HeardEvent } from '../../core/alerts/match.js';
import type { Item } from '../../core/alerts/words.js';
import type { Context } from '../context.js';

export function itemOf(
  { url }: Pick<Context, 'url'>,
  event: HeardEvent & { name: string | null },
  topic: Item['topic'],
): Item {
  const { data, subject, name } = event;
  const text = (key: string) => (typeof data[key] === 'string' ? (data[key] as string) : '');
  return {
    topic,
    place: topic.startsWith('my-') ? `${name} ${subject}` : subject,
    endedAfterMs: event.type === 'alert.ended' ? Number(data.lastedMs ?? 0) : null,
    says: text('says') || saidOf(event, topic),
    url: url + pathOf(event, topic),
    at: new Date(event.at).toISOString(),
  };
}

const saidOf = ({ subject, data }: HeardEvent, topic: Item['topic']): string =>
  topic === 'my-review-live'
    ? `${subject} is live in ${String(data.environment ?? '')}.`
    : `${subject} ${String(data.state ?? '')}.`;

/** Where more is to be seen. */
function pathOf({ subject, data, name }: HeardEvent & { name: string | null }, topic: Item['topic']): string {
  if (name === null) return '/';
  const run = /^run (\d+)$/.exec(topic === 'main-failed' ? String(data.of) : subject)?.[1];
  if (run) return `/${name}/runs/${run}`;
  const deployment = topic === 'deployment-failed' ? /^d(\d+)$/.exec(String(data.of))?.[1] : undefined;
  if (deployment) return `/${name}/deployments/${deployment}`;
  const environment =
    topic === 'my-review-live'
      ? String(data.environment ?? '')
          .split('/')
          .at(-1)
      : data.environment;
  if (!environment) return `/${name}`;
  const section = {
    'address-failing': '/addresses',
    'resource-failed': '/resources',
    'backup-failed': '/resources',
  } as const;
  return `/${name}/${environment}${section[topic as keyof typeof section] ?? ''}`;
}
