#!/usr/bin/env node
/** The demo's house with the sources watched: rooms are rebuilt and started again, the console is reloaded in place at 127.0.0.1:7790. */
import { spawn, spawnSync } from 'node:child_process';
import { watch } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const node = (args, options = {}) => spawn(process.execPath, args, { cwd: root, stdio: 'inherit', ...options });
let house = node(['dist/demo/demo.js']);
const console_ = node([
  'node_modules/vite/bin/vite.js',
  '--config',
  'console/vite.config.ts',
  '--clearScreen',
  'false',
]);
let timer = null;
const rebuild = () => {
  timer = null;
  process.stdout.write('\nA source changed: building …\n');
  if (
    spawnSync(process.execPath, ['node_modules/typescript/bin/tsc', '-p', 'tsconfig.build.json'], {
      cwd: root,
      stdio: 'inherit',
    }).status !== 0
  )
    return;
  const old = house;
  old.once('exit', () => {
    house = node(['dist/demo/demo.js']);
  });
  old.kill('SIGINT');
};
for (const folder of ['src', 'demo']) {
  watch(join(root, folder), { recursive: true }, () => {
    clearTimeout(timer);
    timer = setTimeout(rebuild, 200);
  });
}
process.once('SIGINT', () => {
  console_.kill('SIGTERM');
  house.once('exit', () => process.exit(0));
});
