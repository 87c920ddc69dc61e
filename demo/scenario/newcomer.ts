/** A repository of someone who has never seen the service: no definition, and a port of its own. */
import type { Change } from './write.js';

export const newcomerName = 'lost-property';

const server = (port: string) => `const { createServer } = require('node:http');

const items = [
  { what: 'umbrella', ferry: 'Hamakaze', found: 'Mejima pier' },
  { what: 'left glove', ferry: 'Isonami', found: 'upper deck' },
];
// What was found on board, for whoever asks at the counter.
createServer((request, response) => {
  response.setHeader('content-type', 'application/json');
  response.end(JSON.stringify({ office: process.env.OFFICE ?? 'Kohama pier', items }));
}).listen(${port});
`;

export const newcomer: Change = {
  title: 'The lost property office',
  author: 'Nagi',
  files: {
    'package.json':
      '{\n  "name": "lost-property",\n  "scripts": { "start": "node server.js", "test": "node --test" },\n  "engines": { "node": ">=20" }\n}\n',
    'server.js': server('3000'),
    'office.test.js':
      "const assert = require('node:assert/strict');\nconst { test } = require('node:test');\n\ntest('gloves come in pairs, mostly', () => {\n  assert.equal(2 - 1, 1);\n});\n",
  },
};

export const newcomerMended: Change = {
  title: 'Listen where it is told to',
  author: 'Nagi',
  files: { 'server.js': server('process.env.PORT') },
};
