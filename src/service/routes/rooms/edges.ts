/** The edges' side: the table, and the bytes that its routes name. */
import { sealedPlace } from '../../../keys/places.js';
import { untilClosed } from '../../signals.js';
import type { FastifyReply, FastifyRequest } from 'fastify';
import type { Issue } from '../../../core/errors/errors.js';
import { CodedError, wording } from '../../../core/errors/errors.js';
import { isDigest } from '../../../blobs/store.js';
import { acknowledge, routesAfter, routesName } from '../../../records/callers/edges.js';
import { grantOf } from '../../../records/callers/people.js';
import { environmentById, type EnvironmentRow, lockEnvironmentAt } from '../../../records/deployments/environments.js';
import { epochOf } from '../../../records/installation.js';
import { wakingBefore } from '../../../records/deployments/life.js';
import { hostsOf } from '../../../records/figures/names.js';
import { exchange, lets } from '../../../engine/environments/gate.js';
import { wakeFor } from '../../../engine/environments/wishes.js';
import { readPublic, sealFor } from '../../../wire/rooms/sealed.js';
import {
  CertificateAnswer,
  CertificateRequest,
  GateAnswer,
  GateRequest,
  TableAnswer,
  TableRequest,
  WakeAnswer,
  WakeRequest,
} from '../../../wire/rooms/work.js';
import { certificatesAfter, keepEdgeKey } from '../../../records/domains/certificates.js';
import { recordEvents } from '../../../records/events.js';
import { type App, notFound, type Service, tokenOf } from '../../server.js';
import { DigestParams, sendBlob } from './bytes.js';

export function edgeRoutes(app: App, service: Service): void {
  const { context, hub } = service;
  const { records, blobs } = context;

  app.get('/api/edge/blobs/:digest', { schema: { params: DigestParams } }, async (request, reply) => {
    const { digest } = request.params;
    if (!(await routesName(records, isDigest(digest) ? digest : '-'))) throw notFound('digest', digest);
    return sendBlob(blobs, digest, reply);
  });

  app.post(
    '/api/edge/table',
    { schema: { body: TableRequest, response: { 200: TableAnswer } } },
    async (request, reply) => {
      const { name, have, waitMs, without, acknowledges } = request.body;
      const open = Object.fromEntries(
        without.map((one) => [one.host, { version: one.version, issue: one.issue as Issue | null }]),
      );
      let epoch = '';
      // What it has is of other records: it begins at 0, and acknowledges nothing.
      const other = () => request.body.epoch !== undefined && request.body.epoch !== epoch;
      return listen(
        reply,
        'routes',
        waitMs,
        async () => {
          await needName(request, name);
          const edge = await records.transition('edge.acknowledged', async (db) => {
            epoch = await epochOf(db);
            return other()
              ? acknowledge(db, tokenOf(request), name, 0, {}, request.ip)
              : acknowledge(db, tokenOf(request), name, Math.min(have, acknowledges ?? have), open, request.ip);
          });
          if (!edge) throw new CodedError('name_taken', { what: 'edge', name });
        },
        async () => {
          if (other()) return { epoch, whole: true, routes: await routesAfter(records, 0) };
          const routes = await routesAfter(records, have);
          return routes.length ? { epoch, routes } : null;
        },
      ).then((found) => found ?? { epoch, routes: [] });
    },
  );

  app.post(
    '/api/edge/certificates',
    { schema: { body: CertificateRequest, response: { 200: CertificateAnswer } } },
    async (request, reply) => {
      const { name, have, key, waitMs } = request.body;
      const bytes = Buffer.from(key, 'base64');
      const reader = readerOf(bytes);
      let epoch = '';
      const begin = async () => {
        await needName(request, name);
        epoch = await epochOf(records);
        if (!(await keepEdgeKey(records, tokenOf(request), name, bytes))) return;
        await recordEvents(records, { type: 'edge.registered', project: null, subject: name, actor: name });
      };
      const found = await listen(reply, 'certificates', waitMs, begin, async () => {
        const other = request.body.epoch !== undefined && request.body.epoch !== epoch;
        const rows = await certificatesAfter(records, other ? '0' : String(have));
        return other || rows.length ? rows : null;
      });
      const certificates: CertificateAnswer['certificates'] = [];
      for (const row of found ?? [])
        try {
          certificates.push({
            id: row.id,
            version: Number(row.version),
            names: row.removed_at ? [] : row.names,
            chain: row.removed_at ? '' : row.chain,
            sealed: row.removed_at
              ? ''
              : sealFor(reader, context.keys.decrypt(row.sealed, sealedPlace('certificates', row.id))).toString(
                  'base64',
                ),
            trusted: row.source !== 'local',
            from: row.not_before.getTime(),
            until: row.not_after.getTime(),
          });
        } catch (error) {
          // One that cannot be read keeps no edge from all others.
          context.log.error({ certificate: row.id, error: String(error) }, 'the key of a certificate cannot be read');
        }
      return { epoch, certificates };
    },
  );

  app.post(
    '/api/edge/wake',
    { schema: { body: WakeRequest, response: { 200: WakeAnswer } } },
    async (request, reply): Promise<WakeAnswer> => {
      const { name, host, look } = request.body;
      const gone: WakeAnswer = { state: 'gone', queue: 0, issue: null };
      if (look) {
        const [, hosts] = await Promise.all([needName(request, name), hostsOf(records, [host])]);
        const id = hosts.get(host);
        return id ? wakeAnswer(await environmentById(records, id)) : gone;
      }
      const stood = context.stood.listen();
      let id: string | null = null;
      try {
        const servers = await records.transition('environment.woken', async (db) => {
          // Nothing is written before it is known who asks.
          const [, environment] = await Promise.all([needName(request, name), lockEnvironmentAt(db, host)]);
          id = environment?.id ?? null;
          return environment ? wakeFor(context, db, environment) : [];
        });
        if (id === null) return gone;
        // Whoever waits goes on as soon as they do, before that is recorded.
        if (servers.length && (await stood.all(servers, standMs, untilClosed(reply.raw, service.closing))))
          return { state: 'stands', queue: 0, issue: null };
      } finally {
        stood.close();
      }
      const answer = async (): Promise<WakeAnswer> => wakeAnswer(await environmentById(records, id as string));
      const settled = async () => {
        const now = await answer();
        return now.state === 'waking' ? null : now;
      };
      return (await listen(reply, `life:${id}`, wakeMs, async () => {}, settled)) ?? answer();
    },
  );

  app.post(
    '/api/edge/gate',
    { schema: { body: GateRequest, response: { 200: GateAnswer } } },
    async (request): Promise<GateAnswer> => {
      const { name, host, pass, ...by } = request.body;
      const [, hosts] = await Promise.all([needName(request, name), hostsOf(records, [host])]);
      const id = hosts.get(host);
      const environment = id ? await environmentById(records, id) : null;
      const answer: GateAnswer = { goodMs: 0, pass: null, passSeconds: 0, why: null };
      if (!environment) return answer;
      if (pass !== undefined) {
        const { ms, quiet } = await lets(context, records, environment, pass);
        return { ...answer, goodMs: ms, ...(quiet ? { quiet } : {}) };
      }
      const found = await records.transition('review.entered', (db) =>
        exchange(context, db, environment, { host, ...by }),
      );
      return 'why' in found
        ? { ...answer, why: found.why }
        : { ...answer, pass: found.pass, passSeconds: found.seconds };
    },
  );

  /** What somebody hears who waits for it. */
  async function wakeAnswer({ id, state, depth, wake_issue }: EnvironmentRow): Promise<WakeAnswer> {
    const issue = wake_issue && wording(wake_issue);
    if (state === 'closing' || state === 'closed') return { state: 'gone', queue: 0, issue: null };
    if (state === 'asleep' || state === 'falling asleep')
      return { state: 'asleep', queue: 0, issue: issue && { says: issue.says, next: issue.next } };
    const queue = state === 'waking' && depth === 'ended' ? await wakingBefore(records, id) : 0;
    return { state: state === 'waking' ? 'waking' : 'awake', queue, issue: null };
  }

  /** An edge speaks under the name of its token. */
  async function needName(request: FastifyRequest, name: string): Promise<void> {
    const grant = await grantOf(records, tokenOf(request));
    if (grant?.name !== name)
      throw new CodedError('token_grant', { name: grant?.name ?? 'this edge', what: `the name ${name}` });
  }

  /** What there is; else waits for news of a topic, and looks once more. Nothing that is told meanwhile is missed. */
  async function listen<T>(
    reply: FastifyReply,
    topic: string,
    waitMs: number,
    begin: () => Promise<void>,
    look: () => Promise<T | null>,
  ): Promise<T | null> {
    const over = untilClosed(reply.raw, service.closing);
    const such = (heard: string) => heard === topic;
    let woken = false;
    const off = hub.on(such, () => {
      woken = true;
    });
    try {
      await begin();
      const found = await look();
      if (found !== null || waitMs === 0) return found;
      if (!woken) await hub.wait(such, waitMs, over);
      return await look();
    } finally {
      off();
    }
  }
}

/** Milliseconds for which whoever waits for a wake is told that it goes on. */
const wakeMs = 10_000;
/** Milliseconds in which programs that stood still go on; after it what is recorded tells how it went. */
const standMs = 1_000;

function readerOf(bytes: Buffer) {
  try {
    return readPublic(bytes);
  } catch {
    throw new CodedError('body_invalid', { detail: 'key is not a public key of X25519' });
  }
}
