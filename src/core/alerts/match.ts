/** Which events a subscription is told of, and what is told together. */
import type { Patience } from './conditions.js';
import type { AlertTopic, ChannelKind, OwnTopic } from '../states.js';

export interface Subscribed {
  channel: ChannelKind;
  /** Of these; of a code host all that there is to tell. */
  topics: readonly (AlertTopic | OwnTopic)[];
  /** Id of the project that it is about; null: all of them, and the installation. */
  project: string | null;
  /** Name of the environment that it is about; null: all of them. */
  environment: string | null;
  /** Whom it belongs to, where it is about that person's own. */
  person: string | null;
}

export interface HeardEvent {
  number: string;
  type: string;
  /** Id of its project. */
  project: string | null;
  subject: string;
  data: Readonly<Record<string, unknown>>;
  /** Whose doing it was: of a run whoever pushed it. */
  by: string;
  at: number;
}

/** Types of events that a subscription may be told of, by its kind: nobody is woken for others. */
export const toldTypes = {
  host: ['run.planned', 'run.ended', 'deployment.state', 'environment.closed', 'picture.taken'],
  alert: ['alert.began', 'alert.ended'],
  person: ['run.ended', 'deployment.state'],
} as const;

export const kindOf = ({ channel, person }: Pick<Subscribed, 'channel' | 'person'>): keyof typeof toldTypes =>
  channel === 'code-host' ? 'host' : person === null ? 'alert' : 'person';

/** The topic under which it is told of; null: it is not. */
export function topicOf(one: Subscribed, event: HeardEvent): AlertTopic | OwnTopic | 'status' | null {
  if (one.project !== null && event.project !== one.project) return null;
  if (one.channel === 'code-host') return toldToHost(event) ? 'status' : null;
  if (one.person !== null) {
    const topic = ownTopicOf(event);
    return topic && event.by === one.person && one.topics.includes(topic) ? topic : null;
  }
  if (event.type !== 'alert.began' && event.type !== 'alert.ended') return null;
  const topic = event.data.topic as AlertTopic;
  if (!one.topics.includes(topic)) return null;
  return one.environment === null || one.environment === event.data.environment ? topic : null;
}

/** How runs stand, and what has become of reviews. */
const toldToHost = ({ type, data }: HeardEvent): boolean =>
  type === 'run.planned' ||
  type === 'run.ended' ||
  type === 'environment.closed' ||
  type === 'picture.taken' ||
  (type === 'deployment.state' && data.review === true && (data.state === 'live' || data.state === 'failed'));

function ownTopicOf(event: HeardEvent): OwnTopic | null {
  if (event.type === 'run.ended')
    return event.data.state === 'failed' ? 'my-run-failed' : event.data.state === 'passed' ? 'my-run-passed' : null;
  return event.type === 'deployment.state' && event.data.state === 'live' && event.data.review === true
    ? 'my-review-live'
    : null;
}

/** Milliseconds for which a message waits for others to go with it. States of runs wait for nothing: each is told by itself. */
export const gatherMs = (channel: ChannelKind, { mailMs }: Pick<Patience, 'mailMs'>): number =>
  channel === 'code-host' ? 0 : channel === 'mail' ? mailMs : Math.min(mailMs, 2_000);

/** Things told in one message at most. */
export const mostTogether = 50;
