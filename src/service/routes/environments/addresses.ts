/** Addresses of environments: listed, added, looked at, renamed, removed; and the root of the service's own authority. */
import { untilClosed } from '../../signals.js';
import type { FastifyReply, FastifyRequest } from 'fastify';
import { Type } from '@sinclair/typebox';
import { checkedName } from '../../../core/domains/names.js';
import {
  addOwnAddress,
  addressUnknown,
  checkAddress,
  removeAddress,
  renameAddress,
} from '../../../engine/domains/acts.js';
import { localAuthority } from '../../../engine/domains/certify.js';
import { Address, AddressBody, RenameBody } from '../../../wire/environments/addresses.js';
import { Page } from '../../../wire/parts.js';
import { type App, change, needEnvironment, notFound, type Service } from '../../server.js';
import { addressViews } from '../../views/addresses.js';

/** How often one person may have a name looked for. */
const looks = { config: { rateLimit: { max: 30, timeWindow: '1 minute' } } };
/** Milliseconds for which an answer waits for what follows by itself. */
const soonMs = 4_000;

export function addressRoutes(app: App, service: Service): void {
  const { context, hub } = service;
  const { records } = context;
  const path = '/api/projects/:project/environments/:name/addresses';

  const viewOf = async (request: FastifyRequest, host: string) => {
    const at = await needEnvironment(service, request);
    const found = (await addressViews(service, records, at)).find((one) => one.host === host);
    if (!found) throw addressUnknown(`${at.project.name}/${at.environment.name}`, host);
    return found;
  };
  /** What is known a moment later, so that whoever asks sees what is missing. */
  const settled = async (request: FastifyRequest, reply: FastifyReply, host: string) => {
    const deadline = Date.now() + soonMs;
    const over = untilClosed(reply.raw, service.closing);
    for (;;) {
      const view = await viewOf(request, host);
      if (view.issue || view.state === 'certified' || Date.now() > deadline || over.aborted) return view;
      await hub.wait((topic) => topic === 'addresses', 1_000, over);
    }
  };
  const placeOf = async (request: FastifyRequest) => {
    const { project, environment } = await needEnvironment(service, request);
    return { project, environment: environment.name };
  };

  app.get(path, { schema: { response: { 200: Page(Address) } } }, async (request) => ({
    items: await addressViews(service, records, await needEnvironment(service, request)),
    next: null,
  }));

  app.post(path, { schema: { body: AddressBody, response: { 201: Address } }, ...looks }, async (request, reply) => {
    const at = await placeOf(request);
    const { host } = await change(service, request, reply, 'address.added', 201, async (db, actor) => ({
      host: (await addOwnAddress(context, db, at, request.body.host, actor)).host,
    }));
    return settled(request, reply, host);
  });

  app.post(`${path}/rename`, { schema: { body: RenameBody, response: { 200: Address } } }, async (request, reply) => {
    const at = await placeOf(request);
    const { host } = await change(service, request, reply, 'address.renamed', 200, async (db, actor) => ({
      host: await renameAddress(context, db, at, request.body.label, actor),
    }));
    return viewOf(request, host);
  });

  const one = Type.Object({ project: Type.String(), name: Type.String(), host: Type.String({ maxLength: 300 }) });
  app.post(
    `${path}/:host/check`,
    { schema: { params: one, response: { 200: Address } }, ...looks },
    async (request, reply) => {
      const at = await placeOf(request);
      const { host } = await change(service, request, reply, 'address.checked', 200, async (db) => ({
        host: (await checkAddress(db, at, asciiOf(request.params.host))).host,
      }));
      return settled(request, reply, host);
    },
  );
  app.delete(`${path}/:host`, { schema: { params: one } }, async (request, reply) => {
    const at = await placeOf(request);
    await change(service, request, reply, 'address.removed', 200, async (db, actor) => {
      await removeAddress(db, at, asciiOf(request.params.host), actor);
      return {};
    });
    return {};
  });

  app.get('/api/authority', async (_request, reply) => {
    if (context.names.authority.kind !== 'local') throw notFound('authority', 'of the service');
    return reply.type('application/x-pem-file').send((await localAuthority(context)).root);
  });
}

/** A name that people write may have other letters than it is kept with. */
function asciiOf(text: string): string {
  try {
    return checkedName(text, []);
  } catch {
    return text;
  }
}
