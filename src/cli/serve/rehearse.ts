/** What `rehearse` needs of the house: a place for its data, and a database server for tasks that ask for one. */
import { mkdirSync, openSync } from 'node:fs';
import { createServer } from 'node:net';
import { join } from 'node:path';
import { rehearse, type RehearseOptions } from '../rehearse/rehearse.js';
import { openDatabase, prepareCluster, startCluster } from './postgres.js';
import { checkoutName, defaultData } from './serve.js';

export async function rehearseHere(
  tasks: string[],
  options: Omit<RehearseOptions, 'data' | 'resources'>,
): Promise<number> {
  const data = defaultData(`rehearse-${checkoutName('.')}`);
  mkdirSync(data, { recursive: true, mode: 0o711 });
  let end = async () => {};
  const resources = async (): Promise<string> => {
    const cluster = prepareCluster(join(data, 'resources'), await freePort());
    const server = startCluster(cluster, openSync(join(data, 'database.log'), 'a', 0o600));
    end = async () => {
      const gone = new Promise<void>((resolve) => void server.once('exit', () => resolve()));
      server.kill('SIGINT');
      await gone;
    };
    return openDatabase(cluster, 'postgres');
  };
  try {
    return await rehearse(tasks, { ...options, data, resources });
  } finally {
    await end();
  }
}

const freePort = (): Promise<number> =>
  new Promise((resolve, reject) => {
    const server = createServer();
    server.once('error', reject);
    server.listen(0, '127.0.0.1', () => {
      const { port } = server.address() as { port: number };
      server.close(() => resolve(port));
    });
  });
