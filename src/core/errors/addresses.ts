/** What is said of addresses and their certificates. */
import { entry, type ErrorEntry } from './entry.js';

export const ofAddresses = {
  address_refused: entry(
    422,
    '{name} cannot be an address here: {why}.',
    'Give the name of a host that is yours, such as departures.kohama.example.',
  ),
  address_unknown: entry(
    404,
    '{environment} has no address {name}.',
    '`tsunagi address list {environment}` shows those that it has.',
  ),
  address_there: entry(
    409,
    '{name} is an address of {environment} already.',
    '`tsunagi address list {environment}` shows how far it is.',
  ),
  address_taken: entry(
    409,
    '{name} is proven as an address of {environment}, and its proof stands.',
    'Remove it there first, or take its record away.',
  ),
  address_declared: entry(
    409,
    '{name} stands in the definition of the main branch.',
    'Take it out of `addresses` there; it goes with the next push.',
  ),
  address_given: entry(
    409,
    '{name} is what the service has given {environment}.',
    '`tsunagi address rename {environment} LABEL` changes it.',
  ),
  addresses_enough: entry(409, '{environment} has {most} addresses already.', 'Remove one first.'),
  proof_missing: entry(
    422,
    'The TXT record {record} should say “{value}”; found was {found}.',
    'Set it at whoever keeps the names of that domain; it is looked for again by itself, for a week.',
    true,
  ),
  name_server_away: entry(
    503,
    'The name servers do not answer for {record}: {detail}.',
    'Look at the name servers of that domain; they are asked again by themselves.',
    true,
  ),
  address_elsewhere: entry(
    422,
    '{name} leads to {found}; it should lead to {wanted}.',
    'Set its A, AAAA or CNAME record; it is looked at again by itself.',
    true,
  ),
  authority_away: entry(
    503,
    'The certificate authority does not answer: {detail}.',
    'It is asked again by itself.',
    true,
  ),
  certificate_refused: entry(
    422,
    'The authority does not certify {name}: {detail}',
    'Mend what it says, then `tsunagi address check`; it is asked again by itself.',
    true,
  ),
  certificate_slow: entry(
    503,
    'Not every edge has taken over the answer for the authority: {edges}.',
    'Look at that edge; it is tried again by itself.',
    true,
  ),
  certificate_over: entry(
    422,
    'The certificate of {name} has run out.',
    'Look at what is said of its renewal: `tsunagi address list`.',
  ),
} as const satisfies Record<string, ErrorEntry>;
