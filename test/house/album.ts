/** A small app that keeps files in a volume: a server, a worker that looks on, a job that counts. */
export const album = (title = 'first'): Record<string, string> => ({
  'package.json': '{ "type": "module" }\n',
  'server.js': `import { createServer } from 'node:http';
import { appendFileSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
const place = process.env.UPLOADS;
const answer = (method, path) => {
  const [, what, name, text] = path.split('/').filter(Boolean);
  if (what === 'files' && method === 'POST') writeFileSync(place + '/' + name, text);
  if (what === 'files') return readFileSync(place + '/' + name, 'utf8');
  if (what === 'spill') {
    // A megabyte at a time, until there is no room.
    const piece = Buffer.alloc(1024 * 1024, 7);
    let count = 0;
    try {
      for (; count < Number(name); count++) appendFileSync(place + '/spilled', piece);
      return { count, code: null };
    } catch (error) {
      return { count, code: error.code };
    }
  }
  return { title: ${JSON.stringify(title)}, files: readdirSync(place).sort(), owner: statSync(place).uid === process.getuid() };
};
createServer((request, response) => {
  try {
    const said = answer(request.method, request.url);
    response.end(typeof said === 'string' ? said : JSON.stringify(said));
  } catch (error) {
    response.statusCode = 500;
    response.end(String(error.code ?? error));
  }
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`,
  'prepare.js': `import { existsSync, writeFileSync } from 'node:fs';
const file = process.env.UPLOADS + '/prepared';
console.log('prepared before:', existsSync(file));
writeFileSync(file, ${JSON.stringify(title)});
`,
  'count.js': `import { readdirSync, writeFileSync } from 'node:fs';
writeFileSync(process.env.UPLOADS + '/counted', String(readdirSync(process.env.UPLOADS).length));
console.log('counted as', process.getuid());
`,
});

export const albumDefinition = ({ size = '32M', more = '', parts = '' } = {}): string => `tsunagi: 1
tasks:
  unit: { reads: [server.js], run: node --check server.js }
release:
  needs: [unit]
  parts:
    api: { kind: server, start: node server.js, at: /api, ready: /api, volumes: [uploads] }
    count: { kind: job, run: node count.js, every: 1d, volumes: [uploads] }
${parts}  resources:
    uploads: { kind: volume, size: ${size}${more} }
  prepare: { part: api, run: node prepare.js, again: safe }
  variables: { UPLOADS: { from: uploads.path } }
environments:
  review: { for: pull requests }
  staging: { branch: main }
  production: { after: staging }
`;
