/** Work without a network whose database is on another machine: the named ports of the named addresses, and nothing else. No packet is sent. */
import { execFileSync } from 'node:child_process';
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { describe, expect, it } from '@jest/globals';
import { namedReach } from '../../src/agent/settings.js';
import { root } from './world.js';

/** Where the kernel would send what is asked for, inside a network namespace that is closed by the very function of the sandbox. */
function routesTo(only: string, asked: readonly string[]): Record<string, string> {
  const folder = mkdtempSync(join(tmpdir(), 'tsunagi-named-'));
  try {
    writeFileSync(join(folder, 'only'), only);
    const script = `set -eu
ip link set lo up
ip link add d0 type veth peer name d1
ip link set d0 up
ip link set d1 up
ip addr add 192.0.2.2/24 dev d0
ip route add default via 192.0.2.1 dev d0
ip -6 addr add 2001:db8::2/64 dev d0 nodad
ip -6 route add default via 2001:db8::1 dev d0
source <(sed -n '/^only_named() {/,/^}/p' "$1")
only_named -4
only_named -6
shift
for one in "$@"; do echo "$(ip route get $one 2>&1 | head -n 1)"; done`;
    const inner = join(root, 'src/agent/sandbox/inner.sh');
    const said = execFileSync('unshare', ['-Urn', 'bash', '-c', script, 'bash', inner, ...asked], {
      cwd: folder,
      encoding: 'utf8',
    }).split('\n');
    return Object.fromEntries(
      asked.map((one, at) => [
        one,
        / dev lo /.test(said[at] ?? '') ? 'itself' : / dev d0 /.test(said[at] ?? '') ? 'outside' : 'nowhere',
      ]),
    );
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

describe('a network that is closed but for what is named', () => {
  it('leads to the named port of the named address, by TCP, and to nothing else', () => {
    const ways = {
      '203.0.113.7 ipproto tcp dport 5432': 'outside',
      '203.0.113.7 ipproto tcp dport 22': 'nowhere',
      '203.0.113.7 ipproto udp dport 5432': 'nowhere',
      '203.0.113.7': 'nowhere',
      '203.0.113.8 ipproto tcp dport 5432': 'nowhere',
      '2001:db8:9::7 ipproto tcp dport 6432': 'outside',
      '2001:db8:9::7 ipproto tcp dport 5432': 'nowhere',
      // Gateway, link, what describes the machine, and the rest of the world.
      '192.0.2.1': 'nowhere',
      '192.0.2.9': 'nowhere',
      '2001:db8::1': 'nowhere',
      '169.254.169.254': 'nowhere',
      '198.51.100.1 ipproto tcp dport 5432': 'nowhere',
      '127.0.0.1': 'itself',
      '::1': 'itself',
    };
    expect(routesTo('203.0.113.7 5432\n2001:db8:9::7 6432\n', Object.keys(ways))).toEqual(ways);
  });

  it('names what lies on another machine, and brings what lies on this one to the loopback', async () => {
    expect(
      await namedReach([
        { host: 'timetable.resources', port: 5432, address: '203.0.113.7' },
        { host: 'sailings-staging.localhost', port: 8080 },
      ]),
    ).toMatchObject({
      only: [{ host: 'timetable.resources', port: 5432, address: '203.0.113.7' }],
      reach: [{ host: 'sailings-staging.localhost', port: 8080 }],
    });
  });
});
