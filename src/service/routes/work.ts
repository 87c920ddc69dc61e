/** The agents' and edges' side: register, poll, report, bytes. Limited to what they have claimed. */
import type { TypeBoxTypeProvider } from '@fastify/type-provider-typebox';
import type { Readable } from 'node:stream';
import { Type } from '@sinclair/typebox';
import { LRUCache } from 'lru-cache';
import type { FastifyRequest } from 'fastify';
import { isDigest } from '../../blobs/store.js';
import { CodedError, type Issue } from '../../core/errors/errors.js';
import {
  beginAttempts,
  loseAttempt,
  refuseAttempt,
  reportAttempt,
  type ReportedAttempt,
  reportInstance,
} from '../../engine/runs/reports.js';
import {
  type AgentRow,
  acknowledge,
  agentOfToken,
  lockAgent,
  registerAgent,
  renewAgent,
  routesAfter,
  routesName,
  holds,
} from '../../records/callers/agents.js';
import {
  type AttemptRow,
  attemptById,
  attemptsLeftBy,
  claimAttempts,
  heldAttempts,
} from '../../records/runs/attempts.js';
import { recordEvents } from '../../records/events.js';
import { coolOldest } from '../../records/deployments/environments.js';
import { anyWaits, claimInstances, heldInstances, nextStart } from '../../records/deployments/instances.js';
import { appendLog } from '../../records/runs/logs.js';
import { notify } from '../../records/database.js';
import { type AgentGrant, type Caller, grantOf } from '../../records/callers/people.js';
import { Digest } from '../../wire/parts.js';
import {
  AttemptReport,
  IdParams,
  ReportAnswer,
  InstanceReportSchema,
  LogPlace,
  Poll,
  PollAnswer,
  Registered,
  Registration,
  TableAnswer,
  TableRequest,
} from '../../wire/work.js';
import { type App, notFound, type Service } from '../server.js';
import { smallFiles } from '../small.js';
import { type AttemptFiles, attemptFiles, attemptWork, instanceWork, knownFiles } from '../work.js';
import { fileRoutes } from './files.js';

const DigestParams = Type.Object({ digest: Digest });
/** Bytes of one batch of log, and of one stored layer. */
const logLimit = 1024 * 1024;
const layerLimit = 8 * 1024 ** 3;

/** Milliseconds for which an answer may be on its way. */
const justNowMs = 2_000;

const empty: PollAnswer = { attempts: [], instances: [], stop: [], end: [], drop: [] };

/** What an agent asks for beyond what its token says, in words, or null. */
function beyondGrant(grant: AgentGrant & { name: string }, { name, takes, address }: Registration): string | null {
  if (name !== grant.name) return `the name ${name}`;
  const more = (takes ?? []).filter((one) => !grant.takes.includes(one));
  if (more.length) return `to take ${more.join(', ')}`;
  return address !== undefined && address !== grant.address ? `the address ${address}` : null;
}

export function workRoutes(app: App, service: Service): void {
  const { context, hub } = service;
  const { records, blobs, timing } = context;
  const tokenOf = (request: FastifyRequest) => (request.caller as Caller).id;
  const needAgent = async (request: FastifyRequest): Promise<AgentRow> => {
    const token = tokenOf(request);
    const agent = await service.agents.get(token, () => agentOfToken(records, token));
    if (!agent) throw new CodedError('lease_lost', { agent: 'with this token' });
    return agent;
  };

  app.post(
    '/api/agent/register',
    { schema: { body: Registration, response: { 200: Registered } } },
    async (request) => {
      const body = request.body;
      const grant = await grantOf(records, tokenOf(request));
      if (!grant) throw new CodedError('token_wrong');
      const beyond = beyondGrant(grant, body);
      if (beyond) throw new CodedError('token_grant', { name: grant.name, what: beyond });
      const takes = body.takes ?? grant.takes;
      const { attempts: named, hurt, ...facts } = body;
      const agent = await records.transition('agent.registered', async (db) => {
        const row = await registerAgent(
          db,
          { ...facts, token: tokenOf(request), takes, address: grant.address, ports: grant.ports },
          timing.lease,
        );
        if (!row) throw new CodedError('name_taken', { what: 'agent', name: body.name });
        await recordEvents(db, {
          type: 'agent.registered',
          project: null,
          subject: row.name,
          actor: row.name,
          data: { takes, slots: body.slots },
        });
        return row;
      });
      service.agents.clear();
      // Attempts end with their agent: what the one before it held, and this one does not name, is lost, and follows at once.
      const kept = new Set(named.map((one) => `${one.id} ${one.fence}`));
      for (const attempt of await attemptsLeftBy(records, agent.id)) {
        if (kept.has(`${attempt.id} ${attempt.fence}`)) continue;
        await loseAttempt(context, attempt, agent.name, { now: true, hurt: hurt.includes(attempt.id) });
      }
      return { agent: agent.id, leaseMs: timing.lease, address: grant.address, ports: grant.ports };
    },
  );

  app.post('/api/agent/poll', { schema: { body: Poll, response: { 200: PollAnswer } } }, async (request, reply) => {
    const body = request.body;
    const gone = new AbortController();
    reply.raw.once('close', () => gone.abort());
    const deadline = context.now() + body.waitMs;
    const full = (body.full as Issue | null) ?? (await context.full());
    const agent = await renewAgent(records, tokenOf(request), body.boot, body.attempts, timing.lease, full);
    if (!agent) throw new CodedError('lease_lost', { agent: 'with this token' });
    for (const id of body.gaveUp) {
      const attempt = await attemptById(records, id);
      if (attempt?.agent_id === agent.id) await loseAttempt(context, attempt, agent.name, { now: true });
    }
    let woken = false;
    const off = hub.on(
      (topic) => wakes(topic),
      () => {
        woken = true;
      },
    );
    // Work that waits for a slot is nothing to an agent that has none: with its next report it is given some.
    const wakes = (topic: string) =>
      topic === 'work' || (topic === 'attempts' && (running.get(agent.id)?.size ?? 0) < body.slots);
    const over = AbortSignal.any([gone.signal, service.closing]);
    try {
      for (;;) {
        woken = false;
        // Whoever asked may be gone by now, and have asked anew.
        const answer = gone.signal.aborted ? empty : await pollOnce(agent, full ? { ...body, slots: 0 } : body);
        // What was claimed for a question that was given up meanwhile goes out with the next one, which may wait already.
        if (gone.signal.aborted && answer.attempts.length + answer.instances.length > 0) await notify(records, 'work');
        const left = deadline - context.now();
        if (
          answer.attempts.length +
            answer.instances.length +
            answer.stop.length +
            answer.end.length +
            answer.drop.length >
            0 ||
          left <= 0 ||
          over.aborted
        )
          return answer;
        const start = await nextStart(records);
        if (woken) continue;
        const handed = await untilWork(
          agent,
          full ? 0 : body.slots,
          Math.max(1, Math.min(left, start ?? left, 2_000)),
          {
            wakes,
            over,
          },
        );
        if (handed.length === 0) continue;
        if (gone.signal.aborted) await notify(records, 'work');
        else return { ...empty, attempts: await tellGiven(agent, handed) };
      }
    } finally {
      off();
    }
  });

  /** Waits for news, at most `ms`; gives what a step gave the agent meanwhile. */
  async function untilWork(
    agent: AgentRow,
    slots: number,
    ms: number,
    { wakes, over }: { wakes: (topic: string) => boolean; over: AbortSignal },
  ): Promise<AttemptRow[]> {
    const given = new AbortController();
    let handed: AttemptRow[] = [];
    const leave =
      slots > (running.get(agent.id)?.size ?? 0)
        ? context.takers.wait({ agent: agent.id, slots, leaseMs: timing.lease }, (rows) => {
            handed = rows;
            given.abort();
          })
        : () => {};
    try {
      await hub.wait(wakes, ms, AbortSignal.any([over, given.signal]));
    } finally {
      leave();
    }
    return handed;
  }

  async function pollOnce(agent: AgentRow, body: Poll): Promise<PollAnswer> {
    const claimed = await records.single('work.claimed', (db) => claimAttempts(db, agent.id, body.slots, timing.lease));
    if (agent.takes.includes('live') && (await anyWaits(records))) {
      if (body.room === 0) await coolOldest(records, agent.id);
      else
        await records.transition('work.claimed', async (db) => {
          await lockAgent(db, agent.id);
          await claimInstances(db, agent, body.room);
        });
    }
    const [attempts, instances] = await Promise.all([
      heldAttempts(records, agent.id),
      heldInstances(records, agent.id),
    ]);
    const has = (list: readonly { id: string; fence: string }[], row: { id: string; fence: string | null }) =>
      list.some((one) => one.id === row.id && one.fence === row.fence);
    begin(claimed);
    running.set(agent.id, new Set(attempts.map((row) => row.id)));
    // What is recorded as this agent's and it does not name is given again: an answer that was lost on its way loses no work.
    const wanted = attempts.filter(
      (row) => !has(body.attempts, row) && !row.stop && !body.gaveUp.includes(row.id) && !justNow(told, row),
    );
    return {
      attempts: await tellAttempts(agent, wanted),
      instances: name(
        agent.id,
        await given(
          instances.filter((row) => !has(body.instances, row) && row.wanted),
          (row) => instanceWork(context, row),
          (row, why) =>
            reportInstance(
              context,
              row.id,
              { agent: agent.id, fence: row.fence ?? '0' },
              { state: 'failed', port: null, exit: null, issue: why },
            ),
        ),
      ),
      stop: attempts.filter((row) => row.stop).map((row) => row.id),
      end: instances.filter((row) => !row.wanted).map((row) => row.id),
      drop: [
        ...body.attempts.filter(
          (one) => !attempts.some((row) => row.id === one.id && row.fence === one.fence) && !justNow(ended, one),
        ),
        ...body.instances.filter((one) => !instances.some((row) => row.id === one.id && row.fence === one.fence)),
      ].map((one) => one.id),
    };
  }

  /** What is to be done, for each row; one that can't be told in full (a secret that no key opens) fails by itself, in words. */
  async function given<Row, Work>(
    rows: readonly Row[],
    tell: (row: Row) => Promise<Work>,
    refuse: (row: Row, why: Issue) => Promise<void>,
  ): Promise<Work[]> {
    const told = await Promise.all(
      rows.map(async (row) => {
        try {
          return [await tell(row)];
        } catch (error) {
          if (!(error instanceof CodedError)) throw error;
          await refuse(row, error.issue);
          return [];
        }
      }),
    );
    return told.flat();
  }

  /** What an attempt sees is told to the agent that it runs on. */
  const filesFor = async (agent: AgentRow, id: string): Promise<AttemptFiles> => {
    const known = running.get(agent.id)?.has(id) && context.steps.runs(id) ? context.steps.known(id) : null;
    if (known) return knownFiles(context, known);
    const attempt = await attemptById(records, id);
    if (!attempt || attempt.agent_id !== agent.id || attempt.state !== 'running') throw new CodedError('fence_old');
    return attemptFiles(context, attempt);
  };

  fileRoutes(app, async (request, id) => filesFor(await needAgent(request), id));

  app.post(
    '/api/agent/attempts/:id/report',
    { schema: { params: IdParams, body: AttemptReport, response: { 200: ReportAnswer } }, bodyLimit: 32 * 1024 * 1024 },
    async (request) => {
      const body = request.body;
      const { id } = request.params;
      const agent = await needAgent(request);
      const attempt = await reported(id);
      if (!attempt) throw new CodedError('fence_old');
      const claim = (await context.full()) ? undefined : { agent: agent.id, slots: agent.slots, leaseMs: timing.lease };
      const rows = await reportAttempt(
        context,
        attempt,
        { agent: agent.id, fence: body.fence },
        body.happenings as Parameters<typeof reportAttempt>[3],
        claim,
      );
      begin(rows);
      const busy = running.get(agent.id) ?? new Set();
      if (body.happenings.some((one) => one.what === 'ended')) {
        mark(ended, { id, fence: body.fence });
        busy.delete(id);
      }
      running.set(agent.id, busy);
      return { attempts: await tellGiven(agent, rows) };
    },
  );

  const small = smallFiles(context);

  /** Agent and digest → the attempt or instance for which it was told of these bytes. */
  const named = new LRUCache<string, string>({ max: 50_000 });
  const name = <Work extends { id: string; layers: string[] }>(agent: string, list: Work[]): Work[] => {
    for (const work of list) for (const digest of work.layers) named.set(`${agent} ${digest}`, work.id);
    return list;
  };

  /** Whether an agent holds work that is made of these bytes: as it was told here, or else, told by another service, made up again. */
  async function mayHave(agent: string, digest: string): Promise<boolean> {
    const work = named.get(`${agent} ${digest}`);
    if (work && (await holds(records, agent, work))) return true;
    const [attempts, instances] = [await heldAttempts(records, agent), await heldInstances(records, agent)];
    const wanted = await Promise.all([
      ...attempts.map((row) => attemptWork(context, row)),
      ...instances.map((row) => instanceWork(context, row)),
    ]);
    return name(agent, wanted).some((one) => one.layers.includes(digest));
  }

  /** Attempts that run on an agent, as far as it asks and reports here. */
  const running = new Map<string, Set<string>>();
  /** Attempts that were given with the answer to a report, and those that have ended, with the time: what an agent says of them may be older. */
  const told = new Map<string, number>();
  const ended = new Map<string, number>();
  const mark = (times: Map<string, number>, { id, fence }: { id: string; fence: string | null }) => {
    const now = context.now();
    for (const [key, since] of times) {
      if (now - since < justNowMs) break;
      times.delete(key);
    }
    times.set(`${id} ${fence}`, now);
  };
  const justNow = (times: Map<string, number>, { id, fence }: { id: string; fence: string | null }): boolean =>
    context.now() - (times.get(`${id} ${fence}`) ?? 0) < justNowMs;

  async function reported(id: string): Promise<ReportedAttempt | null> {
    const known = context.steps.known(id);
    if (!known) return attemptById(records, id);
    const { run, task } = known;
    const of = {
      task_id: task.id,
      deployment_id: null,
      project_id: run.project_id,
      run_id: run.id,
      commit: run.commit,
    };
    return { id, kind: 'task', ...of, commands: task.model.run };
  }

  /** Not on the way of an answer; what fails here is made up for by the attempt's next report. */
  function begin(claimed: readonly AttemptRow[]): void {
    const others = claimed.filter((row) => !context.steps.runs(row.id));
    if (others.length)
      setTimeout(
        () =>
          void beginAttempts(context, others).catch((error: Error) =>
            context.log.warn({ error: String(error) }, 'an attempt was begun late'),
          ),
      );
  }

  /** What a step has given an agent just now. */
  function tellGiven(agent: AgentRow, rows: readonly AttemptRow[]) {
    const busy = running.get(agent.id) ?? new Set();
    for (const row of rows) {
      mark(told, row);
      busy.add(row.id);
    }
    running.set(agent.id, busy);
    return tellAttempts(agent, rows);
  }

  const tellAttempts = async (agent: AgentRow, rows: readonly AttemptRow[]) =>
    name(
      agent.id,
      await given(
        rows,
        async (row) => small.add(agent.id, await attemptWork(context, row)),
        (row, why) => refuseAttempt(context, row, agent.id, why),
      ),
    );

  app.post(
    '/api/agent/instances/:id/report',
    { schema: { params: IdParams, body: InstanceReportSchema } },
    async (request, reply) => {
      const agent = await needAgent(request);
      const { fence, issue, ...report } = request.body;
      // The edge connects to what is reported here: nothing but what the agent's token names.
      if (report.port !== null && (report.port < agent.port_from || report.port > agent.port_to))
        throw new CodedError('token_grant', { name: agent.name, what: `the port ${report.port}` });
      await reportInstance(
        context,
        request.params.id,
        { agent: agent.id, fence },
        { ...report, issue: issue as Issue | null },
      );
      reply.status(204);
    },
  );

  app.register(async (plain) => {
    const scope = plain.withTypeProvider<TypeBoxTypeProvider>();
    scope.removeAllContentTypeParsers();
    scope.addContentTypeParser(
      'application/octet-stream',
      { parseAs: 'buffer', bodyLimit: logLimit },
      (_request, body, done) => done(null, body),
    );
    for (const table of ['attempts', 'instances'] as const) {
      scope.post(
        `/api/agent/${table}/:id/log`,
        { schema: { params: IdParams, querystring: LogPlace }, bodyLimit: logLimit },
        async (request) => {
          const agent = await needAgent(request);
          const { fence, position, command, skippedLines, skippedBytes } = request.query;
          const skipped = skippedBytes ? { lines: skippedLines ?? 0, bytes: skippedBytes } : null;
          const { id } = request.params;
          const bytes = request.body instanceof Buffer ? request.body : Buffer.alloc(0);
          return {
            position: await records.transition('log.kept', (db) =>
              appendLog(db, { table, id, agent: agent.id, fence }, position, command, bytes, skipped),
            ),
          };
        },
      );
    }
  });

  app.register(async (plain) => {
    const scope = plain.withTypeProvider<TypeBoxTypeProvider>();
    scope.removeAllContentTypeParsers();
    scope.addContentTypeParser('*', (_request, payload, done) => done(null, payload));
    scope.put(
      '/api/agent/blobs/:digest',
      { schema: { params: DigestParams }, bodyLimit: layerLimit },
      async (request) => {
        const agent = await needAgent(request);
        const { digest } = request.params;
        if ((await heldAttempts(records, agent.id)).length === 0) throw new CodedError('fence_old');
        return blobs.putLayer(request.body as Readable, digest);
      },
    );
  });

  app.get('/api/agent/blobs/:digest', { schema: { params: DigestParams } }, async (request, reply) => {
    const agent = await needAgent(request);
    const { digest } = request.params;
    if (!(await mayHave(agent.id, digest))) throw notFound('digest', digest);
    return sendBlob(digest, reply);
  });

  app.get('/api/edge/blobs/:digest', { schema: { params: DigestParams } }, async (request, reply) => {
    const { digest } = request.params;
    if (!(await routesName(records, isDigest(digest) ? digest : '-'))) throw notFound('digest', digest);
    return sendBlob(digest, reply);
  });

  async function sendBlob(
    digest: string,
    reply: { type(type: string): { header(name: string, value: number): { send(stream: Readable): unknown } } },
  ): Promise<unknown> {
    const found = await blobs.open(digest);
    if (!found) throw notFound('digest', digest);
    return reply.type('application/octet-stream').header('content-length', found.size).send(found.stream);
  }

  app.post(
    '/api/edge/table',
    { schema: { body: TableRequest, response: { 200: TableAnswer } } },
    async (request, reply) => {
      const { name, have, waitMs, without } = request.body;
      const open = Object.fromEntries(
        without.map((one) => [one.host, { version: one.version, issue: one.issue as Issue | null }]),
      );
      const gone = new AbortController();
      reply.raw.once('close', () => gone.abort());
      let woken = false;
      const off = hub.on(
        (topic) => topic === 'routes',
        () => {
          woken = true;
        },
      );
      try {
        const grant = await grantOf(records, tokenOf(request));
        if (grant?.name !== name)
          throw new CodedError('token_grant', { name: grant?.name ?? 'this edge', what: `the name ${name}` });
        const edge = await records.transition('edge.acknowledged', (db) =>
          acknowledge(db, tokenOf(request), name, have, open),
        );
        if (!edge) throw new CodedError('name_taken', { what: 'edge', name });
        let routes = await routesAfter(records, have);
        if (routes.length === 0 && waitMs > 0) {
          if (!woken)
            await hub.wait((topic) => topic === 'routes', waitMs, AbortSignal.any([gone.signal, service.closing]));
          routes = await routesAfter(records, have);
        }
        return { routes };
      } finally {
        off();
      }
    },
  );
}
