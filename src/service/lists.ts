/** Pages of lists that are read whole: `limit` and `cursor` on every route that answers with `items` and `next`. */
import type { FastifyInstance, FastifyRequest, RouteOptions } from 'fastify';
import { Type } from '@sinclair/typebox';
import { CodedError } from '../core/errors/errors.js';
import { PageQuery } from '../wire/parts.js';

/** Items of one answer where the request names no limit. */
const most = 1_000;

interface ListSchema {
  querystring?: { properties?: Record<string, unknown> };
  response?: Record<string, { properties?: Record<string, unknown> }>;
}

/** Pages the lists of routes that take neither a cursor nor a position (`from`) themselves. Called before the routes are added. */
export function pageLists(app: FastifyInstance): void {
  app.addHook('onRoute', (route: RouteOptions) => {
    const schema = route.schema as ListSchema | undefined;
    const answer = schema?.response?.['200']?.properties;
    const query = schema?.querystring?.properties;
    if (route.method !== 'GET' || !answer?.items || !answer.next || query?.cursor || query?.from) return;
    (route.schema as ListSchema).querystring = Type.Object({ ...(query as object), ...PageQuery });
    route.preSerialization = [
      ...[route.preSerialization ?? []].flat(),
      async (request: FastifyRequest, _reply: unknown, body: unknown) =>
        paged(body as Listed, request.query as { limit?: number; cursor?: string }),
    ] as never;
  });
}

interface Listed {
  items: Record<string, unknown>[];
  next: string | null;
}

/** What an item of a list is known by: the cursor names the last one that was read, and where it was. */
const keyOf = (item: Record<string, unknown>): string =>
  String(item.id ?? item.host ?? item.number ?? `${item.project ?? ''}/${item.name ?? ''}`);

/** A page of a list, after its cursor. An item that is gone meanwhile is looked for at its index. Throws `cursor_wrong`. */
export function paged<T extends Listed>(list: T, { limit = most, cursor }: { limit?: number; cursor?: string }): T {
  if (!Array.isArray(list?.items)) return list;
  let from = 0;
  if (cursor !== undefined) {
    const [, index = '', key = ''] = /^(\d{1,6})\.(.*)$/s.exec(Buffer.from(cursor, 'base64url').toString('utf8')) ?? [];
    if (index === '') throw new CodedError('cursor_wrong');
    const found = list.items.findIndex((one) => keyOf(one).slice(0, 60) === key);
    from = found < 0 ? Number(index) : found + 1;
  }
  const items = list.items.slice(from, from + limit);
  const last = items.at(-1);
  const next =
    last && from + limit < list.items.length
      ? Buffer.from(`${from + limit - 1}.${keyOf(last).slice(0, 60)}`).toString('base64url')
      : null;
  return { ...list, items, next };
}
