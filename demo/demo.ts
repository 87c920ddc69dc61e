/** `npm run demo`: the whole house with demo data, until Ctrl-C; `--tour` plays the main job; `--fresh` starts anew. */
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { parseArgs } from 'node:util';
import { endLeftInstances } from '../src/agent/instances/keeper.js';
import { checkoutName, defaultData, openHouse, parsePorts, untilSignal } from '../src/cli/serve/serve.js';
import { CodedError, wording } from '../src/core/errors/errors.js';
import { startCodeHost } from './codehost/codehost.js';
import { newcomerName } from './scenario/newcomer.js';
import { startMailbox } from './mailbox/mailbox.js';
import { startNameServer } from './nameserver/nameserver.js';
import { demoApi, prove, seed } from './seed.js';
import { tour } from './tour.js';

const root = dirname(dirname(dirname(fileURLToPath(import.meta.url))));
const say = (text = ''): void => void process.stdout.write(`${text}\n`);

async function main(): Promise<number> {
  const { values } = parseArgs({
    options: {
      tour: { type: 'boolean' },
      fresh: { type: 'boolean' },
      data: { type: 'string' },
      port: { type: 'string', multiple: true },
      help: { type: 'boolean' },
    },
  });
  if (values.help) {
    say('npm run demo [-- --tour] [--fresh] [--data FOLDER] [--port console=7780 …]');
    return 0;
  }
  const name = checkoutName(root);
  const data = values.data ? resolve(values.data) : defaultData(values.tour ? `tour-${name}` : `demo-${name}`);
  // The tour begins with a house of its own, so that its answers can be told right from wrong.
  if (values.fresh || values.tour) {
    await endLeftInstances(join(data, 'agent'));
    rmSync(data, { recursive: true, force: true });
  }
  mkdirSync(data, { recursive: true });
  const names = await startNameServer();
  const mailbox = await startMailbox(join(data, 'mail'));
  const house = await openHouse({
    data,
    ports: parsePorts(values.port ?? []),
    env: {
      TSUNAGI_RESOLVERS: names.address,
      TSUNAGI_MAIL: JSON.stringify({ host: '127.0.0.1', port: mailbox.port, from: 'tsunagi@kohama.example' }),
    },
    say,
  });
  const codehost = await openCodeHost(data);
  try {
    const api = demoApi(house.url, house.token);
    // Its port may be another one than at the last start.
    codehost.moveHooks(house.url);
    const seeded = join(data, 'seeded');
    const checkouts = join(data, 'checkouts');
    mkdirSync(checkouts, { recursive: true });
    if (!existsSync(seeded)) {
      await seed(api, codehost, names, checkouts, say);
      writeFileSync(seeded, new Date().toISOString());
    }
    await prove(api, names);
    if (values.tour)
      return (await tour({ house, codehost, names, mailbox, api, root, checkouts, home: join(data, 'home'), say }))
        ? 0
        : 1;
    const app = (host: string) => `http://${host}:${house.edgePort}/`;
    say();
    say(`The console    ${house.url}/sign-in#${await house.signIn()}`);
    say('               (each sign-in is good once, for 30 minutes)');
    say(
      `sailings       production ${app('sailings-production.localhost')}   staging ${app('sailings-staging.localhost')}`,
    );
    say(`               the review of a pull request ${app('pr-214-sailings.review.localhost')}`);
    say(
      `               over TLS https://departures.kohama.example:${house.ports.tls}/, by the authority of ${house.url}/api/authority`,
    );
    say(`Mail that alerts send is kept in ${mailbox.folder}`);
    say();
    say('Try next, in another terminal:');
    say(`  ./tsunagi sign-in ${house.url} --code ${await house.signIn()}`);
    say('  ./tsunagi board');
    say('  ./tsunagi promote --to sailings/production --check');
    say('  ./tsunagi approve r2 --for sailings/production && ./tsunagi promote --to sailings/production');
    say();
    say('A repository without a definition, to bring live (in the console: Add a project):');
    say(`  ./tsunagi project add ${newcomerName} --from ${codehost.url}/${newcomerName}.git --allow-private`);
    say();
    say('Ctrl-C ends it; the next start goes on with the same data.');
    await untilSignal();
    say('\nEnding …');
    return 0;
  } finally {
    await codehost.close();
    await house.close();
    names.close();
    await mailbox.close();
  }
}

/** On the port that it had, since the project fetches from there; moved when that is in use. */
async function openCodeHost(data: string) {
  const file = join(data, 'codehost.port');
  const port = existsSync(file) ? Number(readFileSync(file, 'utf8')) : 0;
  const host = await startCodeHost(join(data, 'codehost'), port);
  writeFileSync(file, String(host.port));
  return host;
}

main().then(
  (status) => process.exit(status),
  (error: unknown) => {
    const { says, next } =
      error instanceof CodedError ? wording(error.issue) : { says: String((error as Error).stack ?? error), next: '' };
    process.stderr.write(`${says}\n${next}\n`);
    process.exit(3);
  },
);
