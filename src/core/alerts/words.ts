/** What people read of what is told. */
import { durationText } from '../durations.js';
import type { AlertTopic, OwnTopic } from '../states.js';

/** One thing that is told. */
export interface Item {
  topic: AlertTopic | OwnTopic | 'test';
  /** `sailings/production`, `run 131` */
  place: string;
  /** It is over; how long it lasted. */
  endedAfterMs: number | null;
  says: string;
  /** Where more is to be seen. */
  url: string;
  /** ISO 8601. */
  at: string;
}

const heads: Record<Item['topic'], string> = {
  'deployment-failed': 'a deployment failed',
  'cutover-waits': 'the traffic moves no further',
  'health-poor': 'in poor health',
  'main-failed': 'the main branch fails',
  'address-failing': 'an address fails',
  'resource-failed': 'a resource failed',
  'volume-full': 'a volume is nearly full',
  'database-full': 'a database is nearly full',
  'backup-failed': 'a backup failed',
  'job-failed': 'a job failed',
  'agent-unreachable': 'the agent is unreachable',
  'edge-unreachable': 'the edge is unreachable',
  'destination-failing': 'a log destination takes nothing',
  'disk-full': 'a disk is nearly full',
  'repository-altered': 'a repository had refs that do not belong there',
  'repository-filtered': 'files are built as pointers',
  'run-unplaced': 'no agent can take a run',
  'my-run-failed': 'your run failed',
  'my-run-passed': 'your run passed',
  'my-review-live': 'your review is live',
  test: 'a test',
};

const over: Partial<Record<Item['topic'], string>> = {
  'deployment-failed': 'deployed again',
  'cutover-waits': 'the traffic has gone its way',
  'health-poor': 'in good health again',
  'main-failed': 'the main branch passes again',
  'address-failing': 'the address is good again',
  'resource-failed': 'the resource is there again',
  'backup-failed': 'backed up again',
  'job-failed': 'the job passed again',
  'agent-unreachable': 'the agent reports again',
  'edge-unreachable': 'the edge reports again',
  'destination-failing': 'the log destination takes lines again',
  'volume-full': 'there is room in it again',
  'database-full': 'there is room in it again',
  'disk-full': 'there is room again',
  'run-unplaced': 'agents take its runs again',
};

/** `sailings/production: in poor health` */
export const headOf = (one: Item): string =>
  `${one.place}: ${one.endedAfterMs === null ? heads[one.topic] : (over[one.topic] ?? heads[one.topic])}`;

/** The subject line for several at once. */
export function subjectOf(items: readonly Item[]): string {
  const [first] = items;
  if (!first) return '';
  return items.length === 1 ? headOf(first) : `${headOf(first)}, and ${items.length - 1} more`;
}

/** All of it as plain text, a paragraph each. */
export const textOf = (items: readonly Item[]): string =>
  items
    .map((one) =>
      [
        headOf(one),
        ...(one.endedAfterMs === null ? [one.says] : [`It lasted ${durationText(one.endedAfterMs)}.`]),
        one.url,
      ]
        .filter(Boolean)
        .join('\n'),
    )
    .join('\n\n');
