#!/usr/bin/env node
/** Types, lint and format, unused code. The table of imports is a test: test/house/imports.test.ts. */
import { spawnSync } from 'node:child_process';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const steps = [
  ['types', 'typescript/bin/tsc', ['-p', 'tsconfig.all.json']],
  ['lint and format', '@biomejs/biome/bin/biome', ['check', '--error-on-warnings', '.']],
  ['unused code', 'knip/bin/knip.js', ['--no-config-hints']],
];
let failed = 0;
for (const [name, file, args] of steps) {
  const { status } = spawnSync(process.execPath, [join(root, 'node_modules', file), ...args], {
    cwd: root,
    stdio: ['ignore', 'inherit', 'inherit'],
  });
  process.stdout.write(`${name}: ${status === 0 ? 'good' : 'to be mended'}\n`);
  if (status !== 0) failed++;
}
process.exit(failed ? 1 : 0);
