/** Goes from a few characters to the page that is meant. */
import { Type } from '@sinclair/typebox';
import { find, type FoundRow } from '../../records/views/find.js';
import type { Caller } from '../../records/callers/people.js';
import { Found } from '../../wire/projects.js';
import type { App, Service } from '../server.js';

const Query = Type.Object({ text: Type.String({ minLength: 1, maxLength: 100 }) }, { additionalProperties: false });

export function findRoutes(app: App, service: Service): void {
  app.get(
    '/api/find',
    { schema: { querystring: Query, response: { 200: Type.Object({ items: Type.Array(Found) }) } } },
    async (request) => {
      const { text } = request.query;
      const rows = await find(service.context.records, text.trim(), (request.caller as Caller).project);
      return { items: rows.map((row) => ({ ...row, ...placeOf(row) })) };
    },
  );
}

function placeOf({ kind, project, name }: FoundRow): { name: string; page: string } {
  switch (kind) {
    case 'project':
      return { name: project, page: `/${project}` };
    case 'environment':
      return { name: `${project}/${name}`, page: `/${project}/${name}` };
    case 'run':
      return { name: `${project} run ${name}`, page: `/${project}/runs/${name}` };
    case 'release':
      return { name: `${project} r${name}`, page: `/${project}` };
  }
}
