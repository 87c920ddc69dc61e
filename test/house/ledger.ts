/** A small app with a database: a migration, a server that keeps notes, a worker that counts them. */
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { root } from './world.js';

export const ledger = (title = 'notes', more = ''): Record<string, string> => ({
  'package.json': '{ "type": "module" }\n',
  'driver.js': readFileSync(join(root, 'dist/driver.js'), 'utf8'),
  'migrations/001-notes.sql': 'create table if not exists notes (id serial primary key, text text not null);\n',
  'migrate.js': `import { readFileSync, readdirSync } from 'node:fs';
import pg from './driver.js';
const client = new pg.Client({ connectionString: process.env.DATABASE_URL });
await client.connect();
for (const name of readdirSync('migrations').sort()) await client.query(readFileSync('migrations/' + name, 'utf8'));
console.log('prepared as', (await client.query('select session_user as who')).rows[0].who, process.env.DATABASE_URL);
${more}
await client.end();
`,
  'server.js': `import { createServer } from 'node:http';
import pg from './driver.js';
const pool = new pg.Pool({ connectionString: process.env.DATABASE_URL, max: 4 });
pool.on('error', (error) => console.log('a session was lost', error.message));
const answer = async (request) => {
  if (request.method === 'POST') await pool.query('insert into notes (text) values ($1)', [decodeURIComponent(request.url.slice(11))]);
  if (request.url === '/api/who') return (await pool.query('select session_user as login, current_user as who, current_database() as db')).rows[0];
  return { title: ${JSON.stringify(title)}, notes: (await pool.query('select text from notes order by id')).rows.map((one) => one.text) };
};
createServer((request, response) =>
  answer(request).then(
    (body) => response.end(JSON.stringify(body)),
    (error) => {
      response.statusCode = 500;
      response.end(error.message);
    },
  ),
).listen(process.env.PORT, () => console.log('the ledger is open'));
process.on('SIGTERM', () => process.exit(0));
`,
});

export const ledgerDefinition = (
  change: { resource?: string; prepare?: string; parts?: string; environments?: string } = {},
): string => `tsunagi: 1
tasks:
  unit: { reads: [server.js], run: node --check server.js }
release:
  needs: [unit]
  parts:
    api: { kind: server, start: node server.js, at: /api, ready: /api/who }
${change.parts ?? ''}  resources:
    notes: ${change.resource ?? '{ kind: postgres }'}
  prepare: { part: api, run: node migrate.js${change.prepare ?? ''} }
  migrations: { files: [migrations/] }
  variables: { DATABASE_URL: { from: notes.url } }
environments:
${change.environments ?? '  review: { for: pull requests }\n  staging: { branch: main }\n  production: { after: staging }'}
`;
