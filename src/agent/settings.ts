/**
 * The operator's settings for tasks with the network: variables such as `HTTPS_PROXY` or `npm_config_registry`. What their
 * addresses lead to may be reached though it lies on this machine or in a private range; nothing else there may.
 */
import { lookup } from 'node:dns/promises';
import { isIP } from 'node:net';
import type { Reach } from '../wire/rooms/work.js';

export interface OperatorReach {
  /** Ports of this machine's loopback, with the names that lead there. */
  reach: { port: number; host: string }[];
  /** Addresses of other machines, for work that may reach the outside. */
  through: string[];
}

/** What the service has named. */
export interface NamedReach extends OperatorReach {
  /** The same places on other machines, for work that may reach nothing else there: that port of that address. */
  only: { port: number; host: string; address: string }[];
  /** Their ports: other work uses the same servers. */
  bounded: number[];
}

/** Named places: ports of this machine's loopback are tied to it; addresses of other machines are let through. */
export async function namedReach(
  places: readonly Reach[],
  resolve: (name: string) => Promise<string[]> = addressesOf,
): Promise<NamedReach> {
  const found: NamedReach = { reach: [], through: [], only: [], bounded: [...new Set(places.map(({ port }) => port))] };
  for (const { port, host, address = '127.0.0.1' } of places) {
    const addresses = isIP(address) ? [address] : address === 'localhost' ? ['127.0.0.1'] : await resolve(address);
    if (addresses.some(loopback)) found.reach.push({ port, host });
    else {
      found.through.push(...addresses);
      // Looked up here: work without the outside has nobody to ask for names.
      found.only.push(...addresses.map((one) => ({ port, host, address: one })));
    }
  }
  return found;
}

const loopback = (address: string): boolean => address === '::1' || address.startsWith('127.');
const defaultPorts: Record<string, number> = { 'http:': 80, 'https:': 443 };

/** The http and https addresses in the values; a name that can't be resolved now is left to the task. */
export async function operatorReach(
  settings: Record<string, string>,
  resolve: (name: string) => Promise<string[]> = addressesOf,
): Promise<OperatorReach> {
  const found: OperatorReach = { reach: [], through: [] };
  for (const value of Object.values(settings)) {
    const url = addressIn(value);
    if (!url) continue;
    const host = url.hostname.replace(/^\[|\]$/g, '');
    const addresses = isIP(host)
      ? [host]
      : host === 'localhost' || host.endsWith('.localhost')
        ? ['127.0.0.1']
        : await resolve(host);
    if (addresses.some(loopback)) {
      const port = Number(url.port) || (defaultPorts[url.protocol] as number);
      if (!found.reach.some((one) => one.port === port && one.host === host)) found.reach.push({ port, host });
    } else for (const address of addresses) if (!found.through.includes(address)) found.through.push(address);
  }
  return found;
}

function addressIn(value: string): URL | null {
  if (!/^https?:\/\//i.test(value)) return null;
  try {
    return new URL(value);
  } catch {
    return null;
  }
}

async function addressesOf(name: string): Promise<string[]> {
  try {
    return (await lookup(name, { all: true })).map((one) => one.address);
  } catch {
    return [];
  }
}
