#!/usr/bin/env node
/** Builds dist/: the rooms, the bundled command line, the console. */
import { spawnSync } from 'node:child_process';
import { chmodSync, copyFileSync, cpSync, mkdirSync, readFileSync, rmSync } from 'node:fs';
import { dirname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import { build } from 'esbuild';

const root = dirname(dirname(fileURLToPath(import.meta.url)));
const run = (name, args) => {
  const { status } = spawnSync(process.execPath, [join(root, 'node_modules', name), ...args], {
    cwd: root,
    stdio: ['ignore', 'inherit', 'inherit'],
  });
  if (status !== 0) process.exit(status ?? 1);
};

rmSync(join(root, 'dist'), { recursive: true, force: true });
run('typescript/bin/tsc', ['-p', 'tsconfig.build.json']);
const sandbox = 'src/agent/sandbox';
mkdirSync(join(root, 'dist', sandbox), { recursive: true });
for (const file of ['launch.sh', 'inner.sh', 'runner.sh', 'starter.sh', 'hand.sh', 'beside.sh', 'relay.mjs'])
  copyFileSync(join(root, sandbox, file), join(root, 'dist', sandbox, file));
/** One file each, so that they start fast: the command line, and what it loads when that is wanted. */
const bundle = (entry, outfile, first = '') =>
  build({
    absWorkingDir: root,
    entryPoints: [entry],
    outfile,
    bundle: true,
    platform: 'node',
    target: 'node20',
    format: 'esm',
    minify: true,
    legalComments: 'none',
    banner: {
      js: `${first}import{createRequire as __r}from'node:module';const require=__r(import.meta.url);`,
    },
    logLevel: 'warning',
  });
await bundle('src/cli/main.ts', 'dist/tsunagi.js', '#!/usr/bin/env node\n');
await bundle('src/cli/stream.ts', 'dist/stream.js');
for (const name of ['check-run', 'verify-run']) await bundle(`src/cli/commands/${name}.ts`, `dist/${name}.js`);
chmodSync(join(root, 'dist/tsunagi.js'), 0o755);
// The rooms and what starts them, with all that they load in few files: one that was killed is there again sooner. What looks for files
// beside itself still finds them.
const rooms = join(root, 'dist/rooms');
await build({
  absWorkingDir: root,
  entryPoints: ['enter', 'serve'].map((name) => `dist/src/cli/serve/${name}.js`),
  outdir: rooms,
  bundle: true,
  splitting: true,
  platform: 'node',
  target: 'node20',
  format: 'esm',
  external: ['pg-native', 'pg-hstore'],
  legalComments: 'none',
  banner: { js: "import{createRequire as __r}from'node:module';const require=__r(import.meta.url);" },
  plugins: [
    {
      name: 'own place',
      setup: ({ onLoad, onResolve }) => {
        // A package that is loaded only when wanted stays where it is: bundled, its names would be gone.
        onResolve({ filter: /^[^./]/ }, ({ kind }) => (kind === 'dynamic-import' ? { external: true } : undefined));
        onLoad({ filter: /\/dist\/src\/.*\.js$/ }, ({ path }) => ({
          contents: readFileSync(path, 'utf8').replaceAll(
            'import.meta.url',
            `new URL(${JSON.stringify(relative(rooms, path))}, import.meta.url).href`,
          ),
        }));
      },
    },
  ],
  logLevel: 'warning',
});
// What takes pictures runs in a sandbox that sees no node_modules. The library that drives the browser looks for two files of its own
// beside it.
await build({
  absWorkingDir: root,
  entryPoints: ['src/agent/pictures/take.ts'],
  outfile: 'dist/pictures/lib/take.cjs',
  bundle: true,
  platform: 'node',
  target: 'node20',
  format: 'cjs',
  minify: true,
  legalComments: 'none',
  logLevel: 'error',
});
for (const file of ['package.json', 'browsers.json', 'LICENSE', 'NOTICE', 'ThirdPartyNotices.txt'])
  copyFileSync(join(root, 'node_modules/playwright-core', file), join(root, 'dist/pictures', file));
// The database driver as one file, which repositories that begin here keep beside their sources: nothing has to be fetched for it.
await build({
  absWorkingDir: root,
  stdin: { contents: "export { default } from 'pg';", resolveDir: root },
  outfile: 'dist/driver.js',
  bundle: true,
  platform: 'node',
  target: 'node20',
  format: 'esm',
  minify: true,
  external: ['pg-native'],
  legalComments: 'none',
  banner: { js: "import{createRequire as __r}from'node:module';const require=__r(import.meta.url);" },
  logLevel: 'warning',
});
copyFileSync(join(root, 'node_modules/pg/LICENSE'), join(root, 'dist/driver.LICENSE'));
cpSync(join(root, 'beginnings'), join(root, 'dist/beginnings'), { recursive: true });
if (!process.argv.includes('--without-console'))
  run('vite/bin/vite.js', ['build', '--config', 'console/vite.config.ts', '--logLevel', 'warn']);
