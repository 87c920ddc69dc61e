/** A project whose source is the demo's code host, and a checkout of it. */
import { join } from 'node:path';
import type { CodeHost } from '../../demo/codehost/codehost.js';
import type { AddedProject } from '../../src/wire/projects.js';
import { Checkout, codehostModule, type World } from './world.js';

export const startCodeHost = async (world: World): Promise<CodeHost> =>
  (await codehostModule()).startCodeHost(join(world.folder, 'codehost'), 0);

export async function notified(
  world: World,
  codehost: CodeHost,
  name: string,
  files: Record<string, string>,
): Promise<{ checkout: Checkout; first: string; added: AddedProject }> {
  const remote = codehost.addRepository(name);
  const added = await world
    .api()
    .post<AddedProject>('/api/projects', { name, source: 'notified', url: remote, allowPrivate: true });
  codehost.setHook(name, { url: added.endpoint, secret: added.eventSecret as string });
  const checkout = new Checkout(join(world.folder, `${name}-checkout`), remote);
  await checkout.start();
  const first = await checkout.commitAndPush(files, 'First');
  return { checkout, first, added };
}
