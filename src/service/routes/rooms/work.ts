/** The agents' side: register, poll, report. Limited to what they have claimed. */
import { untilClosed, whenClosed } from '../../signals.js';
import { strayVolumes } from '../../../engine/upkeep/strays.js';
import { lookAtAskedPictures } from '../../../records/deployments/pictures.js';
import { Type } from '@sinclair/typebox';
import { CodedError, type Issue } from '../../../core/errors/errors.js';
import { loseAttempt, reportAttempt, type ReportedAttempt, reportInstance } from '../../../engine/runs/reports.js';
import { type AgentRow, lockAgent, registerAgent, renewAgent } from '../../../records/callers/agents.js';
import {
  type AttemptRow,
  attemptById,
  attemptsLeftBy,
  claimAttempts,
  heldAttempts,
} from '../../../records/runs/attempts.js';
import { recordEvents } from '../../../records/events.js';
import { loseTerminals } from '../../../engine/terminals/terminals.js';
import { claimTerminals, type TerminalRow, terminalsFor } from '../../../records/deployments/terminals.js';
import { takeInstances } from '../../../engine/deployments/placement.js';
import { coolOldest } from '../../../records/deployments/environments.js';
import { endLongestFrozen } from '../../../records/deployments/life.js';
import { anyWaits, heldInstances, type InstanceRow, nextStart } from '../../../records/deployments/instances.js';
import { notify } from '../../../records/database.js';
import { type AgentGrant, grantOf } from '../../../records/callers/people.js';
import {
  AttemptReport,
  IdParams,
  ReportAnswer,
  InstanceReportSchema,
  Leaving,
  Poll,
  PollAnswer,
  Registered,
  Registration,
} from '../../../wire/rooms/work.js';
import { type App, needAgent, type Service, tokenOf } from '../../server.js';
import { fileRoutes } from '../files.js';
import { openGiven } from '../../given.js';
import { type ChoreRow, choresFor, claimChores, returnChores } from '../../../records/resources/chores.js';
import { seen } from '../../../engine/resources/volumes.js';
import { byteRoutes } from './bytes.js';
import { choreRoutes, choreWork } from './chores.js';

const empty: PollAnswer = { attempts: [], instances: [], terminals: [], chores: [], stop: [], end: [], drop: [] };

/** What an agent asks for beyond what its token says, in words, or null. */
function beyondGrant(grant: AgentGrant & { name: string }, { name, takes, address }: Registration): string | null {
  if (name !== grant.name) return `the name ${name}`;
  const more = (takes ?? []).filter((one) => !grant.takes.includes(one));
  if (more.length) return `to take ${more.join(', ')}`;
  return address !== undefined && address !== grant.address ? `the address ${address}` : null;
}

/** Those that shall stand still and were not told so yet, or the other way round. */
const stands = ({ instances: held }: Poll, rows: readonly InstanceRow[], freeze: boolean): string[] =>
  rows
    .filter((row) => row.wanted && row.still === freeze)
    .filter((row) =>
      held.some((one) => one.id === row.id && one.fence === row.fence && (one.frozen ?? false) !== freeze),
    )
    .map((row) => row.id);

export function workRoutes(app: App, service: Service): void {
  const { context, hub } = service;
  const { records, timing } = context;
  const given = openGiven(context);

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
      const { attempts: named, hurt, left = false, ...facts } = body;
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
      await lookAtAskedPictures(records);
      await loseTerminals(context, agent.id);
      await returnChores(records, agent.id);
      // Attempts end with their agent: what the one before it held, and this one does not name, is lost, and follows at once.
      const kept = new Set(named.map((one) => `${one.id} ${one.fence}`));
      for (const attempt of await attemptsLeftBy(records, agent.id)) {
        if (kept.has(`${attempt.id} ${attempt.fence}`)) continue;
        await loseAttempt(context, attempt, agent.name, { now: true, hurt: hurt.includes(attempt.id), left });
      }
      return { agent: agent.id, leaseMs: timing.lease, address: grant.address, ports: grant.ports };
    },
  );

  app.post(
    '/api/agent/leave',
    { schema: { body: Leaving, response: { 204: Type.Null() } } },
    async (request, reply) => {
      const agent = await needAgent(service, request);
      const { boot, attempts: named } = request.body;
      const ours = new Set(named.map((one) => `${one.id} ${one.fence}`));
      // Another process of this agent may have registered by now, and holds what it holds.
      if (agent.boot === boot)
        for (const attempt of await attemptsLeftBy(records, agent.id))
          if (ours.has(`${attempt.id} ${attempt.fence}`))
            await loseAttempt(context, attempt, agent.name, { now: true, left: true });
      return reply.status(204).send(null);
    },
  );

  app.post('/api/agent/poll', { schema: { body: Poll, response: { 200: PollAnswer } } }, async (request, reply) => {
    const body = request.body;
    const gone = new AbortController();
    whenClosed(reply.raw, () => gone.abort());
    const deadline = context.now() + body.waitMs;
    const full = (body.full as Issue | null) ?? (await context.full());
    const agent = await renewAgent(records, tokenOf(request), body.boot, body.attempts, timing.lease, full, body.room);
    if (!agent) throw new CodedError('lease_lost', { agent: 'with this token' });
    for (const id of body.gaveUp) {
      const attempt = await attemptById(records, id);
      if (attempt?.agent_id === agent.id) await loseAttempt(context, attempt, agent.name, { now: true });
    }
    if (body.volumes) {
      await seen(context, agent, body.volumes);
      const forget = await strayVolumes(
        context,
        agent,
        body.volumes.map(({ id }) => id),
      );
      if (forget.length) return { ...empty, forget };
    }
    let woken = false;
    let stood = false;
    const off = hub.on(
      (topic) => wakes(topic),
      () => {
        woken = true;
      },
    );
    // Somebody waits for those that go on: they are told before anything else.
    const offStand = hub.on(
      (topic) => topic === 'stand',
      () => {
        stood = true;
      },
    );
    // Work that waits for a slot is nothing to an agent that has none: with its next report it is given some.
    const wakes = (topic: string) =>
      topic === 'work' || topic === 'stand' || (topic === 'attempts' && given.busy(agent) < body.slots);
    const over = untilClosed(reply.raw, service.closing);
    try {
      for (;;) {
        if (stood && !gone.signal.aborted) {
          stood = false;
          const rows = await heldInstances(records, agent.id);
          const [freeze, thaw] = [stands(body, rows, true), stands(body, rows, false)];
          if (freeze.length + thaw.length > 0) return { ...empty, freeze, thaw };
        }
        woken = false;
        // Whoever asked may be gone by now, and have asked anew.
        const answer = gone.signal.aborted ? empty : await pollOnce(agent, full ? { ...body, slots: 0 } : body);
        // What was claimed for a question that was given up meanwhile goes out with the next one, which may wait already.
        const filled =
          answer.attempts.length +
          answer.instances.length +
          (answer.terminals ?? []).length +
          (answer.chores ?? []).length;
        if (gone.signal.aborted && filled > 0) await notify(records, 'work');
        const left = deadline - context.now();
        const { stop, end, drop, freeze = [], thaw = [] } = answer;
        const told = stop.length + end.length + drop.length + freeze.length + thaw.length;
        if (filled + told > 0 || left <= 0 || over.aborted) return answer;
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
        else return { ...empty, attempts: await given.attemptsOfStep(agent, handed) };
      }
    } finally {
      off();
      offStand();
    }
  });

  /** Waits for news, at most `ms`; gives what a step gave the agent meanwhile. */
  async function untilWork(
    agent: AgentRow,
    slots: number,
    ms: number,
    { wakes, over }: { wakes: (topic: string) => boolean; over: AbortSignal },
  ): Promise<AttemptRow[]> {
    const handing = new AbortController();
    let handed: AttemptRow[] = [];
    const leave =
      // Steps make work of tasks alone.
      slots > given.busy(agent) && agent.takes.some((one) => one !== 'live')
        ? context.takers.wait({ agent: agent.id, slots, leaseMs: timing.lease }, (rows) => {
            handed = rows;
            handing.abort();
          })
        : () => {};
    try {
      await hub.wait(wakes, ms, AbortSignal.any([over, handing.signal]));
    } finally {
      leave();
    }
    return handed;
  }

  /** The same of what is to be done to volumes of its own. */
  async function choresOfAgent(agent: AgentRow, body: Poll): Promise<ChoreRow[]> {
    if (!body.chores) return [];
    const { held, waits } = await choresFor(records, agent.id);
    const room = body.choreRoom ?? 0;
    if (!waits || room === 0) return held;
    return [...held, ...(await records.single('work.claimed', (db) => claimChores(db, agent.id, room)))];
  }

  /** Those that it has, with what it takes now. */
  async function terminalsOfAgent(agent: AgentRow, body: Poll): Promise<TerminalRow[]> {
    // An agent of before knows none.
    if (!body.terminals || !agent.takes.includes('live')) return [];
    const { held, waits } = await terminalsFor(records, agent.id);
    const room = body.terminalRoom ?? 0;
    if (!waits || room === 0) return held;
    return [...held, ...(await records.single('work.claimed', (db) => claimTerminals(db, agent.id, room)))];
  }

  async function endUnheard(agent: AgentRow, { id, fence }: InstanceRow): Promise<void> {
    const by = { agent: agent.id, fence: fence ?? '0' };
    await reportInstance(context, id, by, { state: 'ended', port: null, exit: null, issue: null }).catch(
      (error: unknown) => {
        if (!(error instanceof CodedError) || error.issue.code !== 'fence_old') throw error;
      },
    );
  }

  async function pollOnce(agent: AgentRow, body: Poll): Promise<PollAnswer> {
    const claimed = await records.single('work.claimed', (db) => claimAttempts(db, agent.id, body.slots, timing.lease));
    if (agent.takes.includes('live') && (await anyWaits(records))) {
      const { short } = await records.transition('work.claimed', async (db) => {
        await lockAgent(db, agent.id);
        return takeInstances(db, agent, body.room);
      });
      // Warm ones first, then those that sleep.
      if (short && !(await coolOldest(records, agent.id))) await endLongestFrozen(records, agent.id);
    }
    const [attempts, instances, terminals, chores] = await Promise.all([
      heldAttempts(records, agent.id),
      heldInstances(records, agent.id),
      terminalsOfAgent(agent, body),
      choresOfAgent(agent, body),
    ]);
    type Named = readonly { id: string; fence: string; ending?: boolean }[];
    const find = (list: Named, row: { id: string; fence: string | null }) =>
      list.find((one) => one.id === row.id && one.fence === row.fence);
    const has = (list: Named, row: { id: string; fence: string | null }) => find(list, row) !== undefined;
    // Told to end before the agent had heard of it: nobody else ends it.
    for (const row of instances) if (!row.wanted && !has(body.instances, row)) await endUnheard(agent, row);
    given.begin(claimed);
    given.runs(agent, attempts);
    // What is recorded as this agent's and it does not name is given again: an answer that was lost on its way loses no work.
    const wanted = attempts.filter(
      (row) => !has(body.attempts, row) && !row.stop && !body.gaveUp.includes(row.id) && !given.justTold(row),
    );
    return {
      attempts: await given.attempts(agent, wanted),
      instances: await given.instances(
        agent,
        instances.filter((row) => !has(body.instances, row) && row.wanted),
      ),
      terminals: await given.terminals(
        agent,
        terminals.filter((row) => row.state === 'given' && !has(body.terminals ?? [], row)),
      ),
      chores: chores.filter((row) => !has(body.chores ?? [], row)).map(choreWork),
      stop: attempts.filter((row) => row.stop && !find(body.attempts, row)?.ending).map((row) => row.id),
      end: instances.filter((row) => !row.wanted && !find(body.instances, row)?.ending).map((row) => row.id),
      freeze: stands(body, instances, true),
      thaw: stands(body, instances, false),
      drop: [
        ...body.attempts.filter(
          (one) => !attempts.some((row) => row.id === one.id && row.fence === one.fence) && !given.justOver(one),
        ),
        ...(body.terminals ?? []).filter((one) => !has(terminals, one)),
        ...(body.chores ?? []).filter((one) => !has(chores, one)),
        ...body.instances.filter((one) => !instances.some((row) => row.id === one.id && row.fence === one.fence)),
      ].map((one) => one.id),
    };
  }

  fileRoutes(app, async (request, id) => given.files(await needAgent(service, request), id));
  byteRoutes(app, service, given);
  choreRoutes(app, service);

  app.post(
    '/api/agent/attempts/:id/report',
    { schema: { params: IdParams, body: AttemptReport, response: { 200: ReportAnswer } }, bodyLimit: 32 * 1024 * 1024 },
    async (request) => {
      const body = request.body;
      const { id } = request.params;
      const agent = await needAgent(service, request);
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
      given.begin(rows);
      if (body.happenings.some((one) => one.what === 'ended')) given.over(agent, { id, fence: body.fence });
      return { attempts: await given.attemptsOfStep(agent, rows) };
    },
  );

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

  app.post(
    '/api/agent/instances/:id/report',
    { schema: { params: IdParams, body: InstanceReportSchema } },
    async (request, reply) => {
      const agent = await needAgent(service, request);
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
}
