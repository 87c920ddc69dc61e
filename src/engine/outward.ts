/** Addresses of others that the service connects to because somebody said so: resolved once, and private only where an operator allows. */
import { BlockList, isIP } from 'node:net';
import { CodedError } from '../core/errors/errors.js';
import { checkedAddress, isPrivate } from '../git/remote.js';

/** Gives the address to connect to. Throws `source_host`, or `network_private`. */
export type CheckAddress = (host: string) => Promise<string>;

/** `networks`: private addresses and ranges (CIDR) that may be reached. */
export function addressCheck(networks: readonly string[]): CheckAddress {
  const allowed = new BlockList();
  for (const text of networks) {
    const [address = '', prefix] = text.split('/');
    const family = isIP(address) === 6 ? 'ipv6' : 'ipv4';
    allowed.addSubnet(address, Number(prefix ?? (family === 'ipv6' ? 128 : 32)), family);
  }
  return async (host) => {
    const address = await checkedAddress({ host }, true);
    if (isPrivate(address) && !allowed.check(address, isIP(address) === 6 ? 'ipv6' : 'ipv4'))
      throw new CodedError('network_private', { host, address });
    return address;
  };
}
