/** address list, add, check, rename, remove. */
import type { Command } from 'commander';
import { durationText } from '../../../core/durations.js';
import type { Address } from '../../../wire/environments/addresses.js';
import type { PageOf } from '../../../wire/parts.js';
import { call, environmentPlace, get, post } from '../../api.js';
import { faint, plain, say, state, table } from '../../print.js';
import { give, type Shared, shared } from '../shared.js';

const addressesOf = async (environment: string, options: Shared) => {
  const place = await environmentPlace(environment, options.project);
  return { path: `${place.path}/addresses`, shown: `${place.project}/${place.name}` };
};

export function addressCommands(program: Command): void {
  const address = program.command('address').description('the names under which environments are reached');

  shared(
    address.command('list <environment>').description('its addresses, how far each is, and what is missing'),
    'tsunagi address list sailings/production',
  ).action(async (environment: string, options: Shared) => {
    const { path } = await addressesOf(environment, options);
    give(options, await get<PageOf<Address>>(path), ({ items }) => {
      say(
        table(
          ['ADDRESS', 'STATE', 'CERTIFICATE', ''],
          items.map((one) => [plain(one.url), state(one.state), certificateOf(one), one.main ? 'main' : '']),
        ),
      );
      for (const one of items) missing(one);
    });
  });

  shared(
    address
      .command('add <environment> <name>')
      .description('a name of your own; says which record proves it, and looks for that by itself'),
    'tsunagi address add sailings/production departures.kohama.example',
  ).action(async (environment: string, name: string, options: Shared) => {
    const { path } = await addressesOf(environment, options);
    give(options, await post<Address>(path, { host: name }), show);
  });

  shared(
    address
      .command('check <environment> <name>')
      .description('look for its proof and its certificate now; one that failed begins again'),
    'tsunagi address check sailings/production departures.kohama.example',
  ).action(async (environment: string, name: string, options: Shared) => {
    const { path } = await addressesOf(environment, options);
    const one = await post<Address>(`${path}/${encodeURIComponent(name)}/check`);
    give(options, one, show);
    if (one.issue) process.exitCode = 1;
  });

  shared(
    address
      .command('rename <environment> <label>')
      .description('another first label for the address that the service gives; the one before leads there too'),
    'tsunagi address rename sailings/staging sailings-next',
  ).action(async (environment: string, label: string, options: Shared) => {
    const { path } = await addressesOf(environment, options);
    give(options, await post<Address>(`${path}/rename`, { label }), show);
  });

  shared(
    address.command('remove <environment> <name>').description('it leads there no longer'),
    'tsunagi address remove sailings/production departures.kohama.example',
  ).action(async (environment: string, name: string, options: Shared) => {
    const { path, shown } = await addressesOf(environment, options);
    await call('DELETE', `${path}/${encodeURIComponent(name)}`);
    give(options, { removed: name }, () => say(`${plain(name)} leads to ${shown} no longer.`));
  });
}

function show(one: Address): void {
  say(`${plain(one.url)} is ${state(one.state)}${one.certificate ? `; ${certificateOf(one)}` : ''}.`);
  missing(one);
}

/** What whoever keeps the name has to do. */
function missing(one: Address): void {
  if (one.issue) say(`${plain(one.host)}: ${plain(one.issue.says)}\n  ${faint(plain(one.issue.next))}`);
  else if (one.proof && (one.state === 'wanted' || one.state === 'failed'))
    say(`${plain(one.host)} is proven by a TXT record:\n  ${one.proof.record}  TXT  ${one.proof.value}`);
}

/** `for 89 d`; of one that has run out `over`. */
function leftOf(until: string): string {
  const ms = Date.parse(until) - Date.now();
  return ms > 0 ? `for ${durationText(ms).split(' ').slice(0, 2).join(' ')}` : 'over';
}

const certificateOf = ({ certificate }: Address): string =>
  certificate ? `by ${plain(certificate.issuer)}, ${leftOf(certificate.until)}` : '';
