/** Why a request, a source or a command is refused. */
import { entry, type ErrorEntry } from './entry.js';

export const refusals = {
  // sources
  event_malformed: entry(
    400,
    'The event could not be read: {detail}',
    'Send a CloudEvents 1.0 event as JSON, as docs/api.md describes.',
  ),
  event_unknown: entry(422, 'Events of type {type} are not known here.', 'Send one of: {types}.'),
  signature_wrong: entry(
    401,
    'The signature does not fit the event.',
    'Sign timestamp and body with the secret of this project.',
  ),
  signature_old: entry(
    401,
    'The signature is older than five minutes or from the future.',
    'Set the clock of the sender, and sign anew.',
  ),
  fetch_failed: entry(
    502,
    'git could not fetch from {url}: {detail}',
    'Look at the address and at the code host.',
    true,
  ),
  commit_absent: entry(
    422,
    'The commit {commit} was announced but is not at {url}.',
    'Push it there and send the event again.',
    true,
  ),
  person_reserved: entry(422, '{name} is a reserved name.', 'Choose another name.'),
  person_alike: entry(
    409,
    '{name} looks like {other}, who is or was here.',
    'Choose a name that cannot be mistaken for it.',
  ),
  push_refused: entry(403, 'This token may not push to {project}.', 'Use a token with the role developer or higher.'),
  source_kind: entry(409, '{project} takes its commits from {kind}, not by {way}.', 'Push to its code host instead.'),
  url_refused: entry(
    422,
    'The address {url} cannot be used: {why}',
    'Use one that begins with https://, http:// or ssh://, without a name or password in it.',
  ),
  source_host: entry(
    422,
    'There is no host {host}.',
    'Look at the spelling of the address, and at the name server.',
    true,
  ),
  source_private: entry(
    422,
    '{host} leads to {address}, an address of a private network.',
    'An owner can allow that for this project: `--allow-private`.',
  ),
  source_unreachable: entry(
    502,
    '{host} does not answer: {detail}',
    'Look at the address and its port, and whether that host is up.',
    true,
  ),
  source_denied: entry(
    422,
    '{host} does not let us read {url}.',
    'Give a user name and password (or token), or a key, that may read it.',
  ),
  source_missing: entry(
    422,
    'There is no repository at {url}, or it may not be seen.',
    'Look at the address; a repository that is not public needs a credential.',
  ),
  source_redirect: entry(422, '{url} leads to another address.', 'Use the address that it leads to.'),
  source_tls: entry(
    422,
    'The certificate of {host} is not trusted: {detail}',
    'Install the certificate of its authority on this machine.',
  ),
  source_host_key: entry(
    422,
    'The host key of {host} is another one than before.',
    'If that is meant, remove its line from known_hosts in the folder of the service.',
  ),
  source_empty: entry(422, 'The repository at {url} has no commits yet.', 'Push a first commit to it.', true),
  branch_moved: entry(409, 'Somebody has pushed to {branch} meanwhile.', 'Load it again, and commit again.', true),
  project_paused: entry(409, '{project} is paused.', 'Resume it: `tsunagi project resume {project}`.'),
  project_busy: entry(409, '{project} still has {count} that run.', 'Wait until they have ended, or stop them.', true),
  branch_unknown: entry(422, '{url} has no branch {branch}.', '{hint}'),
  folder_unknown: entry(422, 'The branch {branch} has no folder {folder}.', '{hint}'),
  file_for_owners: entry(403, 'Only owners may use repositories on the machine of the service.', 'Ask an owner.'),
  // requests
  sign_in_needed: entry(
    401,
    'This needs a sign-in.',
    'Sign in: `tsunagi sign-in URL` reads a token from standard input.',
  ),
  token_wrong: entry(
    401,
    'The token is not known, has expired or was removed.',
    'Ask an owner for a new one: `tsunagi token add`.',
  ),
  code_wrong: entry(
    401,
    'The one-time sign-in is not known, was used, or has expired.',
    'Start the service again to print a new one, or use a token.',
  ),
  not_allowed: entry(403, 'This needs the role {role}; you are {yours}.', 'Ask an owner.'),
  token_bound: entry(
    403,
    'This token is for one project; what was asked for is about all of them.',
    'Use a token that is not bound to a project.',
  ),
  token_grant: entry(
    403,
    'The token of {name} does not allow {what}.',
    'An owner says what an agent may: `tsunagi token add {name} --kind agent --takes …`.',
  ),
  wrong_origin: entry(403, 'The request came from another site.', 'Use the console at its own address.'),
  not_found: entry(404, '{what} is not known.', '{hint}'),
  body_invalid: entry(400, 'The request is not as described: {detail}', 'See /api/openapi.json for what is expected.'),
  method_wrong: entry(405, '{path} does not take {method}.', 'Use one of these: {allowed}.'),
  type_wrong: entry(
    415,
    'A body of the type {type} is not read here.',
    'Send JSON, with the header content-type: application/json.',
  ),
  body_too_large: entry(413, 'The body is larger than {limit}.', 'Send less.'),
  status_refused: entry(
    502,
    'The states of runs could not be told to {url}: {detail}',
    'Look at the address; they are told again by themselves, in order.',
    true,
  ),
  last_owner: entry(409, '{name} is the only owner.', 'Make somebody else an owner first.'),
  name_taken: entry(409, 'There is a {what} named {name} already.', 'Choose another name.'),
  name_unusable: entry(
    422,
    '`{name}` cannot be a name here.',
    'Use lower case letters, digits and dashes, beginning with a letter, and no word that the console has a page for.',
  ),
  key_reused: entry(422, 'This Idempotency-Key was used for another request.', 'Use a new key for each new request.'),
  key_missing: entry(
    400,
    'A change needs an Idempotency-Key.',
    'Send a fresh random value with each change, and the same one when you repeat it.',
  ),
  too_many_requests: entry(429, 'Too many requests.', 'Wait {seconds} seconds.', true),
  cursor_wrong: entry(400, 'The cursor is not one of this list.', 'Begin again without a cursor.'),
  fence_old: entry(409, 'This work belongs to someone else by now.', 'Drop it.'),
  lease_lost: entry(409, 'The agent {agent} is not registered.', 'Register again.', true),
  offset_wrong: entry(409, 'The log goes on at {offset}.', 'Send from there.', true),
  digest_wrong: entry(422, 'The bytes have another digest than {digest}.', 'Send them again.', true),
  unavailable: entry(503, 'The service cannot do this just now: {detail}', 'Try again in a moment.', true),
  internal: entry(
    500,
    'The service failed at this: {reference}.',
    'Look for {reference} in the log of the service.',
    true,
  ),
  // the command line
  usage: entry(400, '{detail}', 'See `tsunagi {command} --help`.'),
  unreachable: entry(
    503,
    'The service at {url} does not answer: {detail}',
    'Start it with `tsunagi serve`, or sign in elsewhere with `tsunagi sign-in URL`.',
    true,
  ),
  not_signed_in: entry(
    401,
    'There is no service to talk to.',
    'Sign in: `tsunagi sign-in URL` reads a token from standard input.',
  ),
  no_project: entry(400, 'Which project?', 'Add `--project NAME`, or stand in its checkout.'),
  // set-up
  setting_wrong: entry(400, 'The setting {name} cannot be used: {detail}.', 'docs/operating.md lists the settings.'),
  port_taken: entry(
    409,
    'The port {port} for {what} is in use.',
    'End the other program, or choose another: `--port {what}=NUMBER`.',
  ),
  tool_missing: entry(503, '{tool} is not installed.', 'Install it: {command}'),
  sandbox_missing: entry(503, 'No work can be done: {why}', '{hint}'),
  pull_refs_wrong: entry(
    422,
    '`{pattern}` is no pattern of refs.',
    'Write the whole name of the refs with one `*` for the number, such as `refs/pull/*/head`.',
  ),
  pull_refs_many: entry(
    409,
    'The source has {count} refs of pull requests; {most} are looked at.',
    'Choose a narrower pattern, or let its code host send events.',
  ),
} as const satisfies Record<string, ErrorEntry>;
