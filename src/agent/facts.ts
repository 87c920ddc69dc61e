/** What an agent tells of itself: its tools with exact versions, and the digest of its base. */
import { execFile } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { arch, release, type as system } from 'node:os';
import { promisify } from 'node:util';
import { digestOf, sha256 } from '../core/canonical.js';
import type { ToolName } from '../core/definition/tools.js';

const run = promisify(execFile);

/** Tool → how it says its version. */
const tools: Record<ToolName, string[]> = {
  node: ['node', '--version'],
  npm: ['npm', '--version'],
  python: ['python3', '--version'],
  java: ['java', '-version'],
  maven: ['mvn', '-v'],
  git: ['git', '--version'],
  bash: ['bash', '--version'],
  gcc: ['gcc', '-dumpfullversion'],
  make: ['make', '--version'],
};

/** The path that sandboxes have. */
const sandboxPath = '/usr/local/bin:/usr/bin:/bin';

export async function toolVersions(): Promise<Record<string, string>> {
  const found = await Promise.all(
    Object.entries(tools).map(async ([name, [command = '', ...args]]): Promise<[string, string] | null> => {
      try {
        const { stdout, stderr } = await run(command, args, {
          timeout: 10_000,
          env: { PATH: sandboxPath, HOME: '/nonexistent', LC_ALL: 'C' },
        });
        const version = /\d+(\.\d+)+/.exec(stdout || stderr)?.[0];
        return version ? [name, version] : null;
      } catch {
        return null;
      }
    }),
  );
  return Object.fromEntries(found.filter((one) => one !== null));
}

/** Digest over system, architecture, C library, the list of installed packages and the settings that the operator passes on. */
export async function baseDigest(settings: Record<string, string>): Promise<string> {
  const output = async (command: string, args: string[]) => {
    try {
      return (await run(command, args, { timeout: 30_000, maxBuffer: 64 * 1024 * 1024 })).stdout;
    } catch {
      return '';
    }
  };
  const packages = await output('dpkg-query', ['-W', '-f', '${Package} ${Version}\n']);
  const library = (await output('ldd', ['--version'])).split('\n')[0] ?? '';
  return digestOf({
    system: system(),
    distribution: distribution(),
    kernel: release().split('.')[0],
    architecture: arch(),
    library,
    packages: sha256(packages),
    settings,
  });
}

function distribution(): string {
  try {
    return readFileSync('/etc/os-release', 'utf8');
  } catch {
    return '';
  }
}
