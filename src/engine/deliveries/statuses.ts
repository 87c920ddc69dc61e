/**
 * Tells code hosts how runs of their commits stand, and of the reviews of their pull requests: signed CloudEvents, those of runs in the
 * words of CDEvents, in the order of the record, again until they are taken.
 */
import { sealedPlace } from '../../keys/places.js';
import { randomUUID } from 'node:crypto';
import type { Sent } from '../../core/advance/deliveries.js';
import { issue } from '../../core/errors/errors.js';
import { postPinned } from '../../channels/pinned.js';
import { checkedAddress, parseRemote } from '../../git/remote.js';
import { signEvent } from '../../keys/webhooks.js';
import { eventByNumber, type EventRow } from '../../records/events.js';
import { noteStatus, projectById, type ProjectRow } from '../../records/projects/projects.js';
import { findRun } from '../../records/runs/runs.js';
import type { SubscriptionRow } from '../../records/deliveries/subscriptions.js';
import type { Context } from '../context.js';
import { commentEvent, pullOf } from './comments.js';

export async function sendStatus(context: Context, row: SubscriptionRow, number: string): Promise<Sent> {
  const { records } = context;
  const project = await projectById(records, row.project_id as string);
  const event = await eventByNumber(records, number);
  if (!event || project.status_url === null) return { done: true };
  const sent = await tell(context, project, event);
  const said = sent.done
    ? null
    : issue('status_refused', {
        url: project.status_url,
        detail: String(sent.issue.data.detail ?? 'it does not answer'),
      });
  await noteStatus(records, project.id, said);
  return sent;
}

async function tell(context: Context, project: ProjectRow, event: EventRow): Promise<Sent> {
  const pull = event.type === 'run.planned' ? null : await pullOf(context, project, event);
  const events = [
    ...(event.type.startsWith('run.') ? [await statusEvent(context, project, event)] : []),
    ...(pull === null ? [] : [await commentEvent(context, project, pull, event)]),
  ];
  for (const one of events) {
    const sent: Sent = one ? await post(context, project, one) : { done: true };
    if (!sent.done) return sent;
  }
  return { done: true };
}

async function statusEvent(
  context: Context,
  project: ProjectRow,
  event: EventRow,
): Promise<{ id: string; body: object } | null> {
  const number = Number(event.subject.replace('run ', ''));
  const run = await findRun(context.records, project.id, number);
  if (!run) return null;
  const over = event.type === 'run.ended';
  const type = `dev.cdevents.pipelinerun.${over ? 'finished' : 'started'}.0.2.0`;
  const time = event.at.toISOString();
  const state = over ? String(event.data.state) : 'running';
  const outcome = over ? { outcome: state === 'passed' ? 'success' : state === 'failed' ? 'failure' : 'error' } : {};
  // The same each time it is sent: whoever has taken it can tell.
  const id = `${project.id}-${event.number}`;
  const body = {
    specversion: '1.0',
    id,
    source: `/projects/${project.name}`,
    type,
    time,
    datacontenttype: 'application/json',
    data: {
      context: { version: '0.4.1', id: randomUUID(), source: `/projects/${project.name}`, type, timestamp: time },
      subject: {
        id: `run ${number}`,
        type: 'pipelineRun',
        content: { pipelineName: project.name, url: `${context.url}/${project.name}/runs/${number}`, ...outcome },
      },
      customData: { commit: run.commit, branch: run.branch, pullRequest: run.pull_request, run: number, state },
    },
  };
  return { id, body };
}

async function post(context: Context, project: ProjectRow, event: { id: string; body: object }): Promise<Sent> {
  const body = JSON.stringify(event.body);
  const at = parseRemote(project.status_url as string);
  const secret = project.event_secret
    ? context.keys.decrypt(project.event_secret, sealedPlace('projects.event_secret', project.id))
    : '';
  return postPinned({
    url: at.url,
    address: await checkedAddress(at, project.private_allowed),
    headers: { 'content-type': 'application/cloudevents+json', ...signEvent(secret, event.id, body, context.now()) },
    body,
  });
}
