/** Resources of environments: looked at, opened, backed up, restored, connected, removed. */
import type { FastifyRequest } from 'fastify';
import { Type } from '@sinclair/typebox';
import { CodedError } from '../../../core/errors/errors.js';
import {
  backUp,
  backupAt,
  closeLogin,
  openLogin,
  type Place,
  removeBackup,
  removeResource,
  resourceUnknown,
  restore,
  rotate,
  userOf,
} from '../../../engine/resources/acts.js';
import { askSnapshot } from '../../../engine/resources/origins.js';
import { look, rowsOf, tablesOf } from '../../../engine/resources/look.js';
import { connect, tryAddress } from '../../../engine/resources/connect.js';
import { findEnvironment } from '../../../records/deployments/environments.js';
import { loginState } from '../../../records/resources/logins.js';
import { findResource, leftResources, resourceById, type ResourceRow } from '../../../records/resources/resources.js';
import { Page } from '../../../wire/parts.js';
import { IdParams } from '../../../wire/rooms/work.js';
import {
  BackupView,
  ConnectBody,
  OpenedLogin,
  RemoveResource,
  Resource,
  ResourceDetail,
  ResourceRemoval,
  RestoreBody,
  RowPage,
  RowQuery,
  SnapshotView,
  TableList,
} from '../../../wire/environments/resources.js';
import { openStream } from '../../../wire/rooms/stream.js';
import { type App, change, needEnvironment, needProject, ourOrigin, type Service } from '../../server.js';
import { openWays } from '../../ways.js';
import { backupView, resourceDetail, resourceView, resourceViews, snapshotView } from '../../views/resources.js';

/** How often one person may have an address tried. */
const connects = { config: { rateLimit: { max: 10, timeWindow: '1 minute' } } };
const loginParams = Type.Composite([
  IdParams,
  Type.Object({ project: Type.String(), name: Type.String(), resource: Type.String() }),
]);
const backupNumber = Type.Object({
  project: Type.String(),
  name: Type.String(),
  resource: Type.String(),
  number: Type.Integer({ minimum: 1 }),
});

export function resourceRoutes(app: App, service: Service): void {
  const { context } = service;
  const { records } = context;
  const params = (request: FastifyRequest) => request.params as { name: string; resource: string };
  const path = '/api/projects/:project/environments/:name/resources';
  const one = `${path}/:resource`;

  const needAt = (request: FastifyRequest) => needEnvironment(service, request);
  const placeOf = async (request: FastifyRequest): Promise<Place> => ({
    project: await needProject(service, request),
    environment: params(request).name,
    name: params(request).resource,
  });
  const needOne = async (request: FastifyRequest) => {
    const at = await needAt(request);
    const { name, resource } = params(request);
    const row =
      (await findResource(records, at.environment.id, resource)) ??
      (await leftResources(records, at.environment.id)).find((left) => left.name === resource);
    if (!row) throw resourceUnknown(at.project, name, resource);
    return { ...at, row };
  };
  /** The one that can be looked into. */
  const needOpen = async (request: FastifyRequest) => {
    const { project, environment, row } = await needOne(request);
    if (row.state !== 'ready')
      throw new CodedError('resource_not_ready', {
        name: row.name,
        environment: `${project.name}/${environment.name}`,
        state: row.state,
      });
    return row;
  };
  app.get(path, { schema: { response: { 200: Page(Resource) } } }, async (request) => ({
    items: await resourceViews(records, await needAt(request)),
    next: null,
  }));

  app.get(one, { schema: { response: { 200: ResourceDetail } } }, async (request) => {
    const { row, ...at } = await needOne(request);
    await look(context, row);
    return resourceDetail(records, at, (await findResource(records, at.environment.id, row.name)) ?? row);
  });

  app.get(`${one}/tables`, { schema: { response: { 200: TableList } } }, async (request) => {
    const row = await needOpen(request);
    return { items: await tablesOf(context, row) };
  });
  app.get(`${one}/rows`, { schema: { querystring: RowQuery, response: { 200: RowPage } } }, async (request) => {
    const row = await needOpen(request);
    const { schema, table, from = 0 } = request.query;
    const page = await rowsOf(context, row, { schema, name: table }, from);
    return { ...page, from };
  });

  app.post(`${one}/logins`, { schema: { response: { 201: OpenedLogin } } }, async (request, reply) => {
    const at = await placeOf(request);
    const opened = await change(service, request, reply, 'login.opened', 201, async (db, actor) => {
      const { id, password, until } = await openLogin(context, db, at, actor);
      const environment = await findEnvironment(db, at.project.id, at.environment);
      const row = environment && (await findResource(db, environment.id, at.name));
      if (!row) throw resourceUnknown(at.project, at.environment, at.name);
      const kind = context.kinds.database(row);
      const { url = '' } = kind.references(row.id, kind.reached().address, { id, password });
      return { id, url, until: until.toISOString() };
    });
    // It is good when its server knows it, which takes a moment.
    const deadline = context.now() + 5_000;
    while (context.now() < deadline && (await loginState(records, opened.id)) === 'asked')
      await new Promise((resolve) => setTimeout(resolve, 25));
    return opened;
  });
  app.delete(
    `${one}/logins/:id`,
    {
      schema: {
        params: loginParams,
      },
    },
    async (request, reply) => {
      const at = await placeOf(request);
      const { id } = request.params as { id: string };
      await change(service, request, reply, 'login.closed', 200, (db, actor) => closeLogin(db, at, id, actor));
      return {};
    },
  );

  const ways = openWays(service);
  app.get(
    `${one}/logins/:id/stream`,
    {
      websocket: true,
      schema: { params: loginParams },
      preValidation: async (request) => {
        ourOrigin(request);
        await ways.need(request, await needOpen(request), (request.params as { id: string }).id);
      },
    },
    async (socket, request) => {
      const stream = openStream(socket);
      const { id } = request.params as { id: string };
      await needOpen(request)
        .then((row) => ways.pass(request, row, id, stream))
        .catch((error: Error) => {
          context.log.warn({ error: String(error.stack ?? error) }, 'a way to a database was ended by a failure');
          stream.close(1011);
        });
    },
  );

  app.post(`${one}/snapshots`, { schema: { response: { 201: SnapshotView } } }, async (request, reply) => {
    const at = await placeOf(request);
    return change(service, request, reply, 'snapshot.asked', 201, async (db, actor) =>
      snapshotView(db, await askSnapshot(db, at, actor)),
    );
  });

  app.post(`${one}/rotate`, { schema: { response: { 200: Resource } } }, async (request, reply) => {
    const at = await placeOf(request);
    const seen = await needOne(request);
    return change(service, request, reply, 'resource.rotated', 200, async (db, actor) => {
      await rotate(context, db, at, actor);
      return resourceView(db, seen, seen.row);
    });
  });

  app.post(`${one}/backups`, { schema: { response: { 201: BackupView } } }, async (request, reply) => {
    const at = await placeOf(request);
    return change(service, request, reply, 'backup.asked', 201, async (db, actor) =>
      backupView(await backUp(db, at, actor)),
    );
  });
  app.get(`${one}/backups/:number/bytes`, { schema: { params: backupNumber } }, async (request, reply) => {
    const project = await needProject(service, request);
    const { name, resource, number } = request.params;
    const row = await backupAt(records, project, { environment: name, resource, backup: number });
    const bytes = row.digest && row.state === 'kept' ? await context.blobs.open(row.digest) : null;
    if (!bytes) throw new CodedError('backup_not_kept', { number, state: row.state });
    const found = await resourceById(records, row.resource_id);
    return reply
      .type('application/octet-stream')
      .header('content-length', bytes.size)
      .header(
        'content-disposition',
        `attachment; filename="${project.name}-${name}-${resource}-${number}.${found?.kind === 'volume' ? 'tar' : 'dump'}"`,
      )
      .send(bytes.stream);
  });
  app.delete(`${one}/backups/:number`, { schema: { params: backupNumber } }, async (request, reply) => {
    const project = await needProject(service, request);
    const { name, resource, number } = request.params;
    await change(service, request, reply, 'backup.removed', 200, async (db, actor) => {
      await removeBackup(db, project, { environment: name, resource, backup: number }, actor);
      return {};
    });
    return {};
  });
  app.post(`${one}/restore`, { schema: { body: RestoreBody, response: { 202: Resource } } }, async (request, reply) => {
    const at = await placeOf(request);
    const seen = await needOne(request);
    const { backup, environment = at.environment, resource = at.name, first = true, on = null } = request.body;
    return change(service, request, reply, 'restore.asked', 202, async (db, actor) =>
      resourceView(db, seen, await restore(context, db, at, { environment, resource, backup, first, on }, actor)),
    );
  });

  app.post(
    `${one}/connect`,
    { schema: { body: ConnectBody, response: { 200: Resource } }, ...connects },
    async (request, reply) => {
      const at = await placeOf(request);
      const seen = await needAt(request);
      const { url } = request.body;
      await tryAddress(context, url);
      return change(service, request, reply, 'resource.connected', 200, async (db, actor) => {
        await connect(context, db, at, url, actor);
        return resourceView(db, seen, (await findResource(db, seen.environment.id, at.name)) as ResourceRow);
      });
    },
  );

  app.get(`${one}/removal`, { schema: { response: { 200: ResourceRemoval } } }, async (request) => {
    const { environment, row } = await needOne(request);
    await look(context, row);
    const now = (await findResource(records, environment.id, row.name)) ?? row;
    const user = await userOf(records, environment, row.name);
    return {
      bytes: now.bytes === null ? null : Number(now.bytes),
      connections: now.connections,
      backups: (await resourceView(records, { project: await needProject(service, request), environment }, row)).backups
        .kept,
      usedBy: user && `r${user.number}`,
    };
  });
  app.delete(one, { schema: { body: RemoveResource } }, async (request, reply) => {
    const at = await placeOf(request);
    const { confirm, backups = false } = request.body;
    if (confirm !== at.name) throw new CodedError('confirm_wrong', { name: at.name });
    await change(service, request, reply, 'resource.removal-asked', 202, (db, actor) =>
      removeResource(db, at, backups, actor),
    );
    return {};
  });
}
