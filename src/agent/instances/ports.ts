/** The ports of an agent's instances: those that its token names. */
import { createServer } from 'node:net';
import { CodedError } from '../../core/errors/errors.js';

export interface PortRange {
  from: number;
  to: number;
}

const taken = new Set<number>();
let next = 0;

export const takePort = (port: number): unknown => taken.add(port);
export const givePort = (port: number): unknown => taken.delete(port);

/** A port that nobody listens on; they are handed out in turn, so that one that was just freed is not used at once. */
export async function freePort(address: string, { from, to }: PortRange): Promise<number> {
  if (next < from || next > to) next = from + Math.floor(Math.random() * (to - from));
  for (let tries = 0; tries <= to - from && tries < 2_000; tries++) {
    next = next >= to ? from : next + 1;
    const port = next;
    if (taken.has(port) || !(await isFree(address, port))) continue;
    taken.add(port);
    return port;
  }
  throw new CodedError('instance_setup', { part: 'the instance', detail: `no port from ${from} to ${to} is free` });
}

const isFree = (host: string, port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const server = createServer();
    server.once('error', () => resolve(false));
    server.listen({ host, port, exclusive: true }, () => server.close(() => resolve(true)));
  });
