/**
 * Tells code hosts how runs of their commits stand: signed CloudEvents in the words of CDEvents for a pipeline run, in the order of the
 * record, again until they are taken. What was told last is kept by the number of its event, so nothing is lost or left out.
 */
import { backoff } from '../../core/backoff.js';
import { randomUUID } from 'node:crypto';
import { Agent, request } from 'undici';
import { CodedError, issue, type Issue } from '../../core/errors/errors.js';
import { checkedAddress, parseRemote } from '../../git/remote.js';
import { signEvent } from '../../keys/webhooks.js';
import { type EventRow, listEvents } from '../../records/events.js';
import { type ProjectRow, settleStatus, takeStatus, wakeStatus } from '../../records/projects/projects.js';
import { findRun } from '../../records/runs/runs.js';
import type { Context } from '../context.js';

const atOnce = 100;

export async function tellStatuses(context: Context): Promise<boolean> {
  const { records } = context;
  await wakeStatus(records);
  const project = await takeStatus(records, 60_000);
  if (!project) return false;
  let after = project.status_after;
  try {
    for (;;) {
      const events = await listEvents(records, { after, project: project.name, limit: atOnce, newestFirst: false });
      for (const event of events) {
        if (event.type === 'run.planned' || event.type === 'run.ended') await tell(context, project, event);
        after = event.number;
      }
      if (events.length < atOnce) break;
    }
    await settleStatus(records, project, after, null, 0, null);
  } catch (error) {
    if (!(error instanceof CodedError)) throw error;
    const failures = project.status_failures + 1;
    await settleStatus(records, project, after, backoff('statuses', failures), failures, error.issue);
  }
  return true;
}

async function tell(context: Context, project: ProjectRow, event: EventRow): Promise<void> {
  const number = Number(event.subject.replace('run ', ''));
  const run = await findRun(context.records, project.id, number);
  if (!run) return;
  const over = event.type === 'run.ended';
  const type = `dev.cdevents.pipelinerun.${over ? 'finished' : 'started'}.0.2.0`;
  const time = event.at.toISOString();
  const state = over ? String(event.data.state) : 'running';
  const outcome = over ? { outcome: state === 'passed' ? 'success' : state === 'failed' ? 'failure' : 'error' } : {};
  // The same each time it is sent: whoever has taken it can tell.
  const id = `${project.id}-${event.number}`;
  const body = JSON.stringify({
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
  });
  await deliver(context, project, id, body);
}

async function deliver(context: Context, project: ProjectRow, id: string, body: string): Promise<void> {
  const url = project.status_url as string;
  const refused = (detail: string): Issue => issue('status_refused', { url, detail });
  const at = parseRemote(url);
  const address = await checkedAddress(at, project.private_allowed);
  const secret = project.event_secret ? context.keys.decrypt(project.event_secret) : '';
  // The address that was checked is the one that is connected to, whatever the name leads to now.
  const agent = new Agent({
    connect: {
      lookup: (_host, options, done) =>
        options.all
          ? done(null, [{ address, family: address.includes(':') ? 6 : 4 }])
          : done(null, address, address.includes(':') ? 6 : 4),
    },
  });
  try {
    const answer = await request(at.url, {
      method: 'POST',
      dispatcher: agent,
      headersTimeout: 15_000,
      bodyTimeout: 15_000,
      headers: {
        'content-type': 'application/cloudevents+json',
        ...signEvent(secret, id, body, context.now()),
      },
      body,
    });
    await answer.body.dump();
    if (answer.statusCode >= 300)
      throw new CodedError('status_refused', refused(`it answered ${answer.statusCode}`).data);
  } catch (error) {
    if (error instanceof CodedError) throw error;
    throw new CodedError('status_refused', refused((error as Error).message.slice(0, 200)).data, error);
  } finally {
    await agent.close();
  }
}
