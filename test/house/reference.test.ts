/** The API keeps to HTTP and to its own reference, which other programs read. */
import { request as httpRequest } from 'node:http';
import { afterAll, beforeAll, describe, expect, it } from '@jest/globals';
import { compileErrors, validate } from '@readme/openapi-parser';
import { Validator } from '@seriousme/openapi-schema-validator';
import { Ajv } from 'ajv';
import { paged } from '../../src/service/lists.js';
import { openWorld, type World } from './world.js';

interface Operation {
  operationId: string;
  summary: string;
  description: string;
  parameters?: { name: string; in: string; required?: boolean }[];
  requestBody?: { content: Record<string, { schema: object; example?: object }> };
  responses: Record<string, { description: string; content?: Record<string, unknown> }>;
}

let world: World;
let document: { openapi: string; servers: { url: string }[]; paths: Record<string, Record<string, Operation>> };
beforeAll(async () => {
  world = await openWorld();
  document = await world.api().get('/api/openapi.json');
});
afterAll(() => world?.close());

const all = () =>
  Object.entries(document.paths).flatMap(([path, methods]) =>
    Object.entries(methods).map(([method, operation]) => ({ path, method, operation })),
  );

describe('the reference', () => {
  it('is valid by two independent validators', async () => {
    const first = await new Validator().validate(structuredClone(document));
    expect(first.errors ?? []).toEqual([]);
    const second = await validate(structuredClone(document) as never);
    expect(second.valid ? '' : compileErrors(second)).toBe('');
  });

  it('has an address, and a unique name, a summary, and the errors of each operation', () => {
    expect(document.openapi).toBe('3.1.0');
    expect(document.servers).toEqual([{ url: world.url }]);
    const names = all().map(({ operation }) => operation.operationId);
    expect(new Set(names).size).toBe(names.length);
    for (const { path, method, operation } of all()) {
      expect([path, method, operation.summary?.length > 8]).toEqual([path, method, true]);
      const refusals = Object.entries(operation.responses).filter(([status]) => Number(status) >= 400);
      expect(refusals.length).toBeGreaterThanOrEqual(4);
      for (const [, one] of refusals) expect(Object.keys(one.content ?? {})).toEqual(['application/problem+json']);
      expect(Object.keys(operation.responses).some((status) => Number(status) < 300)).toBe(true);
    }
    // What agents and edges ask is not for others.
    expect(Object.keys(document.paths).filter((path) => /^\/(api\/(agent|edge)|git)\//.test(path))).toEqual([]);
  });

  it('asks for an Idempotency-Key where the service does, and nowhere else', async () => {
    const keyed = (method: string, path: string) =>
      document.paths[path]?.[method]?.parameters?.some((one) => one.in === 'header' && one.required) ?? false;
    expect(keyed('post', '/api/projects')).toBe(true);
    expect(keyed('post', '/api/definitions/check')).toBe(false);
    const refused = await world.api().raw('POST', '/api/projects', { body: { name: 'nokey', source: 'hosted' } });
    expect(refused.body.code).toBe('key_missing');
    const checked = await world.api().raw('POST', '/api/definitions/check', { body: { text: 'tsunagi: 1' } });
    expect(checked.status).toBe(200);
  });

  it('has examples that its own schemas accept', () => {
    // Formats of texts are the matter of the service itself.
    const ajv = new Ajv({ strict: false, validateFormats: false });
    let count = 0;
    for (const { path, operation } of all())
      for (const { schema, example } of Object.values(operation.requestBody?.content ?? {})) {
        if (!example) continue;
        count++;
        const ok = ajv.validate(schema, example);
        expect([path, ok, ajv.errorsText()]).toEqual([path, true, 'No errors']);
      }
    expect(count).toBeGreaterThanOrEqual(6);
  });
});

describe('what is asked wrongly', () => {
  const raw = (method: string, path: string, headers: Record<string, string> = {}, body?: string) =>
    new Promise<{ status: number; type: string; allow: string; code: string }>((resolve, reject) => {
      const { hostname, port } = new URL(world.url);
      const request = httpRequest({ hostname, port, method, path, headers }, (response) => {
        let text = '';
        response.on('data', (chunk: Buffer) => (text += chunk));
        response.on('end', () =>
          resolve({
            status: response.statusCode ?? 0,
            type: String(response.headers['content-type'] ?? ''),
            allow: String(response.headers.allow ?? ''),
            code: text.startsWith('{') ? (JSON.parse(text) as { code: string }).code : '',
          }),
        );
      });
      request.on('error', reject);
      request.end(body);
    });
  const problem = expect.stringContaining('application/problem+json');

  it('is 405 with what is allowed, where the path is known', async () => {
    expect(await raw('PUT', '/api/projects')).toEqual({
      status: 405,
      type: problem,
      allow: 'GET, HEAD, POST',
      code: 'method_wrong',
    });
    expect(await raw('DELETE', '/api/projects/sailings/environments/production/hold')).toMatchObject({
      status: 405,
      allow: 'POST',
    });
    expect(await raw('PUT', '/api/nothing')).toMatchObject({ status: 404, code: 'not_found' });
  });

  it('is 415 where the body is not JSON, and 400 where the path is not valid', async () => {
    const headers = {
      authorization: `Bearer ${world.house.token}`,
      'content-type': 'text/xml',
      'idempotency-key': 'x'.repeat(9),
    };
    expect(await raw('POST', '/api/projects', headers, '<a/>')).toMatchObject({
      status: 415,
      type: problem,
      code: 'type_wrong',
    });
    expect(await raw('GET', '/api/%E0%A4%A')).toMatchObject({ status: 400, type: problem, code: 'body_invalid' });
  });

  it('keeps search engines out', async () => {
    const answer = await fetch(`${world.url}/robots.txt`);
    expect([answer.status, await answer.text()]).toEqual([200, 'User-agent: *\nDisallow: /\n']);
  });
});

describe('lists', () => {
  it('are read in pages by limit and cursor, each item once', async () => {
    for (const name of ['one', 'two', 'three', 'four', 'five'])
      await world.api().post('/api/tokens', { name, role: 'viewer' });
    type Tokens = { items: { id: string; name: string }[]; next: string | null };
    const whole = (await world.api().get<Tokens>('/api/tokens')).items.map((one) => one.id);
    const paths: string[] = [];
    let cursor = '';
    do {
      const page: Tokens = await world.api().get<Tokens>(`/api/tokens?limit=2${cursor}`);
      expect(page.items.length).toBeLessThanOrEqual(2);
      paths.push(...page.items.map((one) => one.id));
      cursor = page.next === null ? '' : `&cursor=${page.next}`;
    } while (cursor);
    expect(paths).toEqual(whole);
    expect((await world.api().raw('GET', '/api/tokens?cursor=nonsense')).body.code).toBe('cursor_wrong');
    const listed = all().filter(({ operation, method }) => {
      const schema = (
        operation.responses['200']?.content as never as Record<string, { schema: { properties?: object } }>
      )?.['application/json']?.schema.properties as { items?: unknown; next?: unknown } | undefined;
      // Logs have positions instead.
      const positions = operation.parameters?.some((one) => one.name === 'from');
      return method === 'get' && schema?.items && schema.next && !positions;
    });
    expect(listed.length).toBeGreaterThan(15);
    for (const { path, operation } of listed)
      expect([
        path,
        ['cursor', 'limit'].filter((name) => operation.parameters?.some((one) => one.name === name)),
      ]).toEqual([path, ['cursor', 'limit']]);
  });

  it('go on where they were when the item of the cursor is gone', () => {
    const items = ['a', 'b', 'c', 'd', 'e'].map((id) => ({ id }));
    const first = paged({ items, next: null }, { limit: 2 });
    const rest = items.filter((one) => one.id !== 'b');
    const second = paged({ items: rest, next: null }, { limit: 2, ...(first.next ? { cursor: first.next } : {}) });
    expect([first.items, second.items].map((page) => page.map((one) => one.id))).toEqual([
      ['a', 'b'],
      ['c', 'd'],
    ]);
  });
});
