/** Runs what stands in migrations/ and has not run yet, in the order of its names, each in a transaction of its own. */
import { readdirSync, readFileSync } from 'node:fs';
import pg from '../vendor/pg.js';

const client = new pg.Client({ connectionString: process.env.DATABASE_URL });
await client.connect();
await client.query('create table if not exists migrations (name text primary key, at timestamptz not null default now())');
const { rows } = await client.query('select name from migrations');
const done = new Set(rows.map((row) => row.name));
for (const name of readdirSync('migrations').sort()) {
  if (done.has(name)) continue;
  await client.query('begin');
  await client.query(readFileSync(`migrations/${name}`, 'utf8'));
  await client.query('insert into migrations (name) values ($1)', [name]);
  await client.query('commit');
  console.log(name);
}
await client.end();
