/** Commands of keys: those that vouch for releases, and new ones. */
import type { Command } from 'commander';
import { CodedError } from '../../core/errors/errors.js';
import type { KeySet } from '../../wire/releases.js';
import { get, post } from '../api.js';
import { say, table } from '../print.js';
import { give, type Shared, shared } from './shared.js';

const showKeys = ({ keys }: KeySet) =>
  say(
    table(
      ['KEY', 'USE'],
      keys.map(({ kid }, at) => [kid, at === 0 ? 'signs now' : 'for checking']),
    ),
  );

export function keyCommands(program: Command): void {
  const key = program.command('key').description('keys: of secrets, and those that vouch for releases');
  shared(
    key
      .command('list')
      .description(
        'the public keys with which exported releases are checked; --json prints what `release verify` takes',
      ),
    'tsunagi key list --json > kohama-keys.json',
    { project: false },
  ).action(async (options: Shared) => give(options, await get<KeySet>('/api/keys/releases'), showKeys));
  shared(
    key.command('rotate').description('make a new key: of secrets, which are encrypted with it, or of releases'),
    'tsunagi key rotate --of releases',
    { project: false },
  )
    .option(
      '--of <what>',
      'secrets, or releases: what was signed before is still checked with the older keys',
      'secrets',
    )
    .action(async (options: Shared & { of: string }) => {
      if (options.of === 'releases') {
        await post('/api/keys/releases/rotate');
        return give(options, await get<KeySet>('/api/keys/releases'), showKeys);
      }
      if (options.of !== 'secrets')
        throw new CodedError('usage', {
          detail: '`--of` is secrets or releases.',
          command: 'key rotate',
        });
      give(options, await post<{ encrypted: number }>('/api/keys/rotate'), ({ encrypted }) =>
        say(`A new key is made; ${encrypted} ${encrypted === 1 ? 'secret is' : 'secrets are'} encrypted with it.`),
      );
    });
}
