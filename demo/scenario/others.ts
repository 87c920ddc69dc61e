/** The two smaller projects of Kohama Ferries. */
import type { Change } from './write.js';

/** `tide-tables`: a static site, nothing to build. */
export const tideTables: Change[] = [
  {
    title: 'Tide tables of the south pier',
    author: 'Aoi',
    files: {
      'public/index.html':
        '<!doctype html>\n<meta charset="utf-8">\n<title>Tides</title>\n<h1>Tides at Kohama South</h1>\n<p>High 04:10 and 16:40</p>\n',
      'tsunagi.yaml': `tsunagi: 1
release:
  parts:
    tables: { kind: site, files: [public/], root: public }
environments:
  staging: { branch: main }
  production: { after: staging }
`,
    },
  },
  {
    title: 'Read tide heights from the new gauge',
    author: 'Aoi',
    files: {
      'public/index.html':
        '<!doctype html>\n<meta charset="utf-8">\n<title>Tides</title>\n<h1>Tides at Kohama South</h1>\n<p>High 04:25 and 16:55, from the new gauge</p>\n',
    },
  },
];

const planner = (listen: string) => `import { createServer } from 'node:http';

const berths = { north: ['Hamakaze', 'Asanagi'], south: ['Shiosai'] };
createServer((request, response) => {
  response.writeHead(200, { 'content-type': 'application/json' });
  response.end(JSON.stringify(berths));
}).listen(${listen}, () => console.log('berth planner is up'));
`;

/** `berth-planner`: one server; its second change listens on a port of its own and never gets ready. */
export const berthPlanner: Change[] = [
  {
    title: 'Berths of the north and south pier',
    author: 'Ren',
    files: {
      'planner.js': planner('Number(process.env.PORT)'),
      'package.json': '{ "name": "berth-planner", "private": true, "type": "module" }\n',
      'tsunagi.yaml': `tsunagi: 1
tasks:
  syntax: { run: node --check planner.js }
release:
  needs: [syntax]
  parts:
    planner: { kind: server, start: node planner.js }
environments:
  staging: { branch: main }
  production: { after: staging }
`,
    },
  },
  { title: 'Allow two ferries at the north pier', author: 'Ren', files: { 'planner.js': planner('8000') } },
];

/** It listens where it is told to again. */
export const berthPlannerMended: Change = {
  title: 'Listen where visitors are led to',
  author: 'Ren',
  files: {
    'planner.js': planner('Number(process.env.PORT)').replace(
      "['Hamakaze', 'Asanagi']",
      "['Hamakaze', 'Asanagi', 'Tobiuo']",
    ),
  },
};
