/**
 * The registry of errors: code → wording, HTTP status, whether trying again can help.
 *
 * An issue is data (`code` and `data`); its text is made last, by `wording`, so that the API, the command
 * line and the console say the same. `{name}` in a text is replaced by `data.name`. A code that is retired
 * is never used again.
 */
export interface ErrorEntry {
  /** HTTP status of an answer that carries this error. */
  status: number;
  /** Whether the same request may succeed later without a change. */
  retry: boolean;
  /** What happened and why. */
  says: string;
  /** The next thing to do. */
  next: string;
}

const entry = (status: number, says: string, next: string, retry = false): ErrorEntry => ({ status, retry, says, next });

export const registry = {
  // definition
  definition_missing: entry(422, 'The commit {commit} has no {path}.', 'Add {path} to the repository; `tsunagi check` tells whether it is right.'),
  definition_proposed: entry(422, 'There is no tsunagi.yaml here; this is what would fit it ({what}).', 'Write it and go on: `tsunagi rehearse --write`.'),
  no_checkout: entry(400, '{folder} is not in a git checkout with a commit.', 'Stand in the checkout of the project.'),
  definition_invalid: entry(
    422,
    '{path} has {count} that must be mended: {first}',
    'Run `tsunagi check` in the checkout; it lists them all with line and column.',
  ),
  definition_too_large: entry(422, '{path} is larger than {limit}.', 'Keep the definition small; move scripts into files of their own.'),
  definition_nested: entry(422, 'More than {limit} brackets are open in each other here.', 'Close them, or write the values one below the other.'),
  definition_slow: entry(422, 'Reading {what} took too long and was given up.', 'Make it smaller: fewer tasks, values and patterns.'),
  yaml_syntax: entry(422, 'This is not valid YAML: {detail}.', 'Mend the syntax at this place.'),
  yaml_feature: entry(422, '{what} are not part of the definition language.', 'Write the value out, or quote it if it is meant as text.'),
  encoding: entry(422, 'The text is not valid UTF-8.', 'Save the file as UTF-8.'),
  unknown_key: entry(422, '`{key}` is not known here.', '{hint}'),
  not_yet_supported: entry(422, '`{key}` is part of the language but not yet supported by this version.', 'Leave it out until a later version.'),
  repeated_key: entry(422, '`{key}` stands here twice.', 'Keep one of the two.'),
  required_key: entry(422, '`{key}` is missing in {place}.', 'Add `{key}`: {about}'),
  wrong_kind: entry(422, 'Here {expected} is expected, not {found}.', 'Write {expected}.'),
  wrong_text: entry(422, '`{text}` is not {expected}.', 'Write {expected}, for example `{example}`.'),
  wrong_choice: entry(422, '`{text}` is not one of {choices}.', '{hint}'),
  unknown_task: entry(422, 'There is no task `{name}`.', '{hint}'),
  unknown_part: entry(422, 'There is no part `{name}`.', '{hint}'),
  unknown_environment: entry(422, 'There is no environment `{name}` in the definition.', '{hint}'),
  unknown_reference: entry(422, '`{name}` is nothing that a variable here can come from.', '{hint}'),
  needs_in_circle: entry(422, 'These need each other in a circle: {circle}.', 'Take one of the needs away.'),
  key_not_for: entry(422, '`{key}` has no meaning for {kind}.', 'Take it away, or change the kind.'),
  taken_name: entry(422, '`{name}` is taken: {why}.', 'Choose another name.'),
  taken_variable: entry(422, '`{name}` is set by the service and can not be declared.', 'Choose another name.'),
  one_of_keys: entry(422, '{place} says {found} of {keys}.', 'Say exactly one of them.'),
  same_address: entry(422, 'The parts `{first}` and `{second}` are both at `{at}`.', 'Give one of them another `at`.'),
  no_parts: entry(422, 'A release needs at least one part.', 'Add a part, or take `release` away.'),
  repeated_value: entry(422, 'The value `{value}` stands here twice.', 'Keep one of the two.'),
  too_many_pieces: entry(422, '`{task}` would become {count} tasks; at most {limit} come of one.', 'Take values or shards away.'),
  cache_and_makes: entry(422, 'The cache `{path}` and the output `{made}` lie in each other.', 'Cache another folder, or take it out of `makes`.'),
  evidence_left_out: entry(
    422,
    'The release needs `{task}`, and `{key}` leaves it out for some commits.',
    'Take `{key}` away, or take `{task}` out of what the release needs.',
  ),
  pattern_matches_nothing: entry(200, '`{pattern}` in {place} matches no file of this commit.', 'Mend the pattern, or take it away.'),
  unread_root_file: entry(200, '{place} does not read {file}, which tools often look for.', 'Add it to `reads` if the task depends on it.'),
  filter_attribute: entry(
    200,
    '{file} asks for filters ({attribute}); files are laid out as they are stored, without them.',
    'Take the attribute away, or expect the stored bytes.',
  ),
  // variables
  dotenv_line: entry(422, '`{text}` is no `NAME=value`.', 'Write `NAME=value`, or put a # before it.'),
  dotenv_quote: entry(422, 'The {quote} quote of {name} is not closed.', 'Close it; what stands behind it was not read.'),
  dotenv_rest: entry(422, 'Something stands behind the closing quote of {name}.', 'Put the whole value into the quotes.'),
  dotenv_repeated: entry(200, '{name} stands on line {line}, too; the later one counts.', 'Keep one of the two.'),
  dotenv_expansion: entry(200, 'The value of {name} refers to another variable; it is taken as it stands.', 'Write the whole value.'),
  variable_name: entry(422, '`{name}` can not be the name of a variable.', 'Use letters, digits and underscores, not beginning with a digit.'),
  variable_value: entry(422, 'The value of {name} can not be kept: {why}.', 'Mend the value.'),
  variable_taken: entry(422, '{name} is set by the service.', 'Choose another name.'),
  variable_twice: entry(422, '{name} stands here twice.', 'Keep one of the two.'),
  variable_stranger: entry(
    403,
    'The task {task} wants the secret {name}, which work of untrusted pull requests does not get.',
    'Leave that task out for pull requests (`pull_requests: false`), or let a trusted person propose the change.',
  ),
  secret_unreadable: entry(409, 'The secret {name} can no longer be opened.', 'Set it again: `tsunagi variable set {name} --secret`.'),
  secret_short: entry(
    422,
    'The secret {name} has fewer than {least} characters: it could not be masked in logs.',
    'Use a longer one, or set it as plain text.',
  ),
  // what is recognised in a repository
  recognise_nothing: entry(200, 'Nothing was recognised that could be run or served.', 'Say in the definition what starts it, or choose another folder.'),
  recognise_no_lock: entry(200, 'There are {count} dependencies and no {file}: nothing says which versions.', 'Make the lock file and commit it: `{command}`.'),
  recognise_port: entry(200, '{file} listens on port {port}, whatever PORT says.', 'Listen on {variable}.'),
  recognise_address: entry(
    200,
    '{file} listens on {address} alone, where nobody outside of its sandbox reaches it.',
    'Listen on every address: leave it out, or use 0.0.0.0.',
  ),
  recognise_dotenv: entry(
    200,
    '{file} is in the repository: its values can be read by everybody who can read that.',
    'Take it out, and set its values with `tsunagi variable import`.',
  ),
  recognise_submodule: entry(
    200,
    '{path} is a repository of its own inside this one; it is not fetched.',
    'Take its files into this repository, or fetch them in a task with `network: true`.',
  ),
  recognise_filtered: entry(
    200,
    '{file} speaks of files that are kept elsewhere and filtered in; they are laid out as they are stored.',
    'Store the files themselves, or fetch them in a task with `network: true`.',
  ),
  recognise_tool: entry(200, 'It is made with {tool}, which is not recognised.', 'Write the tasks by hand; `tsunagi check` looks at them.'),
  recognise_server_missing: entry(200, '{file} needs a server such as {servers}, and none is among the requirements.', 'Add one to {requirements}.'),
  recognise_artifact: entry(200, 'The file that Maven writes could not be told from pom.xml.', 'Mend `makes` and `start` of the proposal.'),
  // runs
  tree_too_large: entry(
    422,
    'The commit {commit} has more than {limit}.',
    'Take generated files out of the repository, or choose a folder of it for the project.',
  ),
  git_object_large: entry(422, 'An object of the repository ({kind}) is larger than {limit}.', 'Take it out of the repository.'),
  selection_too_large: entry(
    422,
    'The patterns of this definition and the {files} files of the commit are too many to be compared.',
    'Use fewer patterns with * or **, or name folders.',
  ),
  run_hurts: entry(
    422,
    'Planning this run was begun {tries} times and never came to an end; it is not tried again.',
    'Look at its commit and definition, then push a smaller one.',
  ),
  push_too_many: entry(413, 'A push may move {limit} refs at most.', 'Push them in parts.'),
  busy: entry(429, 'There is too much of this for {what} just now.', 'Wait until what runs has ended.', true),
  path_not_text: entry(422, 'The name of the file {name} is not valid UTF-8.', 'Rename the file and push again.'),
  path_unusable: entry(422, 'The name of the file {name} can not be laid out: {why}.', 'Rename the file and push again.'),
  no_agent_for_versions: entry(409, 'No agent has {tool} {range}; the agents have {have}.', 'Widen `versions`, or install that version on an agent.', true),
  ref_unknown: entry(404, '`{ref}` is no branch, commit or pull request of {project}.', 'Push it first; `tsunagi run list` shows what has arrived.'),
  run_goes_on: entry(409, 'run {number} has not ended yet.', 'Wait until it has, or stop it.', true),
  run_over: entry(409, 'run {number} has ended: {state}.', 'Start a new one with `tsunagi run start`.'),
  run_untrusted: entry(
    409,
    'Commit {commit} comes from an untrusted pull request and waits until a developer has allowed it.',
    'Look at the commit, then `tsunagi run start {commit}`.',
  ),
  command_failed: entry(200, 'The command `{command}` ended with exit status {exit}.', 'Read its output: `tsunagi {look}`.'),
  command_killed: entry(200, 'The command `{command}` was ended by signal {signal}.', 'Read its output; a signal 9 often means that memory ran out.'),
  task_timeout: entry(200, 'It took longer than its timeout of {timeout}; the whole process tree was ended.', 'Make it faster, or raise `timeout`.'),
  output_missing: entry(200, 'The declared output {path} was not made.', 'Make it, or take it out of `makes`.'),
  output_unsafe: entry(422, 'The output {path} can not be kept: {why}.', 'Keep only files, folders and links that stay inside.'),
  output_broken: entry(422, 'The output is no whole archive: {detail}.', 'Make it again; what is sent must be a tar from its beginning to its end.'),
  output_too_large: entry(413, 'The output is larger than {limit}.', 'Keep only what later tasks and the release need.'),
  cache_link: entry(200, 'The cache {path} lies behind a link, or is a file.', 'Cache a folder that no link of the repository or of an output leads through.'),
  agent_hurt: entry(
    200,
    'It took its agent {agent} along: {why}. No other attempt follows by itself.',
    'Let it start fewer processes and need less memory, then run it again.',
  ),
  results_unreadable: entry(200, 'The results in {path} could not be read: {detail}.', 'Let the test runner write JUnit XML there.'),
  results_missing: entry(200, 'The results {path} were not written.', 'Let the test runner write JUnit XML there, or take `results` away.'),
  plan_reused: entry(200, 'It passed in run {run} with the same inputs.', ''),
  plan_first: entry(200, 'It has not run before.', ''),
  plan_changed: entry(200, 'Since run {run} this has changed: {what}.', ''),
  plan_need_runs: entry(200, '{need} runs before it; it is reused after all if that makes the same bytes as before.', ''),
  plan_no_reuse: entry(200, 'Its definition says that it always runs.', ''),
  plan_not_passed: entry(200, 'With the same inputs it failed in run {run}.', ''),
  plan_flaky_or_gone: entry(200, 'It passed in run {run}, but also failed with the same inputs, or its outputs are gone.', ''),
  disk_nearly_full: entry(
    503,
    'The disk of {where} is nearly full: {free} are free, {wanted} are wanted. New attempts wait.',
    'Make room there, or keep fewer runs and releases; they go on by themselves.',
    true,
  ),
  output_gone: entry(410, 'An output of this run ({digest}) is gone or broken: no release can be made of it.', 'Start it again with `--without-reuse`.'),
  release_gone: entry(410, 'The bytes of r{number} are not kept any more.', 'Run its commit again: `tsunagi run start {commit}`.'),
  superseded_by: entry(200, 'run {run} of a newer push took its place.', 'Look at run {run}.'),
  waits_for_run: entry(200, 'It waits until run {run} has ended.', 'It begins by itself then.'),
  stopped_by: entry(200, 'It was stopped by {who}.', 'Start it again when wanted.'),
  out_of_memory: entry(
    200,
    'The command `{command}` was ended: it needed more memory than the {limit} that a task has here.',
    'Let it need less, or ask the operator for a higher limit.',
  ),
  too_many_processes: entry(200, 'The command `{command}` failed after it was refused more than {limit} processes.', 'Let it start fewer at a time.'),
  disk_full: entry(200, '{place} is full: a task has {limit} there.', 'Let the task write less, or clean up as it goes.'),
  too_many_files: entry(200, 'It made more than the {limit} files that a task may make here.', 'Let it make fewer, or clean up as it goes.'),
  database_full: entry(200, 'Its databases took more than the {limit} that a task has for them.', 'Let it write less, or clean up as it goes.'),
  report_refused: entry(200, 'The service did not take the report of its agent: {detail}', 'Look at the log of the service, then run it again.'),
  agent_lost: entry(200, 'Its agent {agent} went away.', 'Another attempt follows by itself.', true),
  setup_failed: entry(200, 'The sandbox could not be made: {detail}.', 'Look at the agent on that machine: `tsunagi agent list`.', true),
  // deployments
  prepare_failed: entry(200, 'prepare failed: {detail}', 'Read its output, mend it and push.'),
  prepare_unknown: entry(409, 'The agent went away while prepare ran, so nobody knows how far it got.', 'Look at the data, then deploy again.'),
  verify_failed: entry(200, 'verify failed: {detail}', 'Read its output, mend it and push.'),
  ended_at_once: entry(200, '{part} ended with exit status {exit} before it was ready: {line}', 'Mend the program or its start command.'),
  listens_elsewhere: entry(200, '{part} listens on {ports}, it was given PORT={port}.', 'Listen on the port in the variable PORT.'),
  not_listening: entry(200, '{part} did not listen on PORT={port} within {wait}.', 'Listen on the port in the variable PORT, and sooner.'),
  not_ready: entry(200, '{part} answered {answer} at {path} for {wait}.', 'Let {path} answer 200 when the program is ready.'),
  worker_ended: entry(200, 'The worker {part} ended with exit status {exit}: {line}', 'A worker runs until it is told to end; mend the program.'),
  edge_refused: entry(200, 'The edge {edge} can not serve this release: {detail}', 'Mend what is said, and deploy a release without it.'),
  lease_over: entry(200, 'The worker {part} was ended: its agent had lost touch with the service.', 'It starts again automatically.', true),
  instance_setup: entry(200, '{part} could not be started: {detail}', 'Look at the agent on that machine.', true),
  ended_by_revert: entry(200, '{who} has reverted the environment meanwhile.', 'Lift the hold, and deploy it again when wanted.'),
  release_untrusted: entry(
    409,
    'r{number} comes from an untrusted pull request: {environment} does not take it.',
    'Merge the pull request, or let a trusted person push its commit to a branch.',
  ),
  base_gone: entry(
    200,
    'No agent is left with the system and packages that this task was planned for.',
    'Start its run again: `tsunagi run again {run}`; it is planned for the agents that there are.',
  ),
  pipe_ended: entry(
    200,
    'In `{command}` a program was still writing when the one behind it in the pipe had read enough (signal 13); with `pipefail` that is a failure.',
    'Let the reader read to the end (`sed -n 1p` in place of `head -n 1`), or write `(… || true) | …`.',
  ),
  deployment_failed: entry(200, 'd{number} failed: {detail}', 'Read why with `tsunagi follow d{number}`.'),
  variable_unset: entry(
    422,
    '{names} must be set for {environment}, and nobody has.',
    'Set it: `tsunagi variable set NAME=VALUE --for {environment}`, or give it a default in the definition.',
  ),
  environment_held: entry(409, '{environment} is on hold: {why}', 'Lift the hold first: `tsunagi lift {environment}`.'),
  environment_closed: entry(409, '{environment} is closed.', 'Open the pull request again.'),
  not_promotable: entry(409, '{release} can not be promoted to {environment}: {why}', '{next}'),
  rules_apply: entry(409, '{environment} takes releases after {after}; it is not deployed to directly.', 'Use `tsunagi promote {release} --to {environment}`.'),
  nothing_to_promote: entry(409, 'There is nothing to promote to {environment}: {why}', 'Let {after} verify a newer release first.'),
  nothing_to_revert: entry(409, 'There is no earlier release to go back to in {environment}.', 'Deploy a release with `tsunagi deploy rN --to {environment}`.'),
  already_live: entry(409, '{release} is live in {environment} already.', 'Nothing needs to be done.'),
  not_held: entry(409, '{environment} is not on hold.', 'Nothing needs to be done.'),
  warm_gone: entry(200, 'The earlier servers have ended and were started anew.', 'Nothing needs to be done.'),
  // why a program did not do what it was asked to
  start_script_missing: entry(
    200,
    '{what}: `{command}` asks npm for the script {script}, and package.json has none.',
    'Add the script, or start the program itself, such as `node server.js`.',
  ),
  command_missing: entry(200, '{what}: there is no command {name}.{near}', 'Mend the command, or make it in a task that this needs.'),
  file_missing: entry(200, '{what}: there is no file {path}.{near}', 'Mend the name, or make the file in a task that this needs.'),
  file_undeclared: entry(200, '{what}: {path} is in the repository, and is not among what this sees.', 'Add `{path}` to {key}.'),
  package_missing: entry(200, '{what}: the package {name} is not installed.', 'Name it in {file}, and let this need the task that installs packages.'),
  tool_version: entry(200, '{what}: it wants {tool} {wants}, and has {has}.', 'Write the version into `versions` of the definition: `{tool}: "{wants}"`.'),
  variable_missing: entry(
    200,
    '{what}: it wants the variable {name}, which it does not get. {line}',
    'Declare {name} under `variables`, and set it: `tsunagi variable set {name}=VALUE`.',
  ),
  waits_for_input: entry(200, '{what}: it asks for input, and nobody is there to answer: {line}', 'Give the answer by an option or a variable of the program.'),
  network_closed: entry(
    200,
    '{what}: it looks for {host}, and has no network.',
    'Add `network: true` to the task, or make what it fetches in one that has it.',
  ),
  listens_one_address: entry(
    200,
    '{part} listens on {address} alone, where nobody outside of its sandbox reaches it.',
    'Let it listen on every address: 0.0.0.0.',
  ),
  instance_memory: entry(
    200,
    '{part} was ended: it needed more memory than the {limit} that an instance has.',
    'Let it need less, or ask the operator for a higher limit.',
  ),
  site_below: entry(
    200,
    'The pages of {part} are served at {at}, and ask for {ref}, which is not below it.',
    'Build the site for {at} (most builders have a setting for its base), or serve it at /.',
  ),
  // sources
  event_malformed: entry(400, 'The event could not be read: {detail}', 'Send a CloudEvents 1.0 event as JSON, as docs/api.md describes.'),
  event_unknown: entry(422, 'Events of type {type} are not known here.', 'Send one of: {types}.'),
  signature_wrong: entry(401, 'The signature does not fit the event.', 'Sign timestamp and body with the secret of this project.'),
  signature_old: entry(401, 'The signature is older than five minutes or from the future.', 'Set the clock of the sender, and sign anew.'),
  fetch_failed: entry(502, 'git could not fetch from {url}: {detail}', 'Look at the address and at the code host.', true),
  commit_absent: entry(422, 'The commit {commit} was announced but is not at {url}.', 'Push it there and send the event again.', true),
  push_refused: entry(403, 'This token may not push to {project}.', 'Use a token with the role developer or higher.'),
  source_kind: entry(409, '{project} takes its commits from {kind}, not by {way}.', 'Push to its code host instead.'),
  url_refused: entry(
    422,
    'The address {url} can not be used: {why}',
    'Use one that begins with https://, http:// or ssh://, without a name or password in it.',
  ),
  source_host: entry(422, 'There is no host {host}.', 'Look at the spelling of the address, and at the name server.', true),
  source_private: entry(422, '{host} leads to {address}, an address of a private network.', 'An owner can allow that for this project: `--allow-private`.'),
  source_unreachable: entry(502, '{host} does not answer: {detail}', 'Look at the address and its port, and whether that host is up.', true),
  source_denied: entry(422, '{host} does not let us read {url}.', 'Give a user name and password (or token), or a key, that may read it.'),
  source_missing: entry(
    422,
    'There is no repository at {url}, or it may not be seen.',
    'Look at the address; a repository that is not public needs a credential.',
  ),
  source_redirect: entry(422, '{url} leads to another address.', 'Use the address that it leads to.'),
  source_tls: entry(422, 'The certificate of {host} is not trusted: {detail}', 'Install the certificate of its authority on this machine.'),
  source_host_key: entry(
    422,
    'The host key of {host} is another one than before.',
    'If that is meant, remove its line from known_hosts in the folder of the service.',
  ),
  source_empty: entry(422, 'The repository at {url} has no commits yet.', 'Push a first commit to it.', true),
  branch_moved: entry(409, 'Somebody has pushed to {branch} meanwhile.', 'Look at it again, and commit again.', true),
  project_paused: entry(409, '{project} is paused.', 'Go on with it: `tsunagi project resume {project}`.'),
  project_busy: entry(409, '{project} still has {count} that run.', 'Wait until they have ended, or stop them.', true),
  branch_unknown: entry(422, '{url} has no branch {branch}.', '{hint}'),
  folder_unknown: entry(422, 'The branch {branch} has no folder {folder}.', '{hint}'),
  file_for_owners: entry(403, 'Only owners may use repositories on the machine of the service.', 'Ask an owner.'),
  // requests
  sign_in_needed: entry(401, 'This needs a sign-in.', 'Sign in: `tsunagi sign-in URL --token TOKEN`.'),
  token_wrong: entry(401, 'The token is not known, has expired or was removed.', 'Ask an owner for a new one: `tsunagi token add`.'),
  code_wrong: entry(401, 'The one-time sign-in is not known, was used, or has expired.', 'Start the service again to print a new one, or use a token.'),
  not_allowed: entry(403, 'This needs the role {role}; you are {yours}.', 'Ask an owner.'),
  token_bound: entry(403, 'This token is for one project; what was asked for is about all of them.', 'Use a token that is not bound to a project.'),
  token_grant: entry(403, 'The token of {name} does not allow {what}.', 'An owner says what an agent may: `tsunagi token add {name} --kind agent --takes …`.'),
  wrong_origin: entry(403, 'The request came from another site.', 'Use the console at its own address.'),
  not_found: entry(404, '{what} is not known.', '{hint}'),
  body_invalid: entry(400, 'The request is not as described: {detail}', 'See /api/openapi.json for what is expected.'),
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
    '`{name}` can not be a name here.',
    'Use lower case letters, digits and dashes, beginning with a letter, and no word that the console has a page for.',
  ),
  key_reused: entry(422, 'This Idempotency-Key was used for another request.', 'Use a new key for each new request.'),
  key_missing: entry(400, 'A change needs an Idempotency-Key.', 'Send a fresh random value with each change, and the same one when you repeat it.'),
  too_many_requests: entry(429, 'Too many requests.', 'Wait {seconds} seconds.', true),
  cursor_wrong: entry(400, 'The cursor is not one of this list.', 'Begin again without a cursor.'),
  fence_old: entry(409, 'This work belongs to someone else by now.', 'Drop it.'),
  lease_lost: entry(409, 'The agent {agent} is not registered.', 'Register again.', true),
  offset_wrong: entry(409, 'The log goes on at {offset}.', 'Send from there.', true),
  digest_wrong: entry(422, 'The bytes have another digest than {digest}.', 'Send them again.', true),
  unavailable: entry(503, 'The service can not do this just now: {detail}', 'Try again in a moment.', true),
  internal: entry(500, 'The service failed at this: {reference}.', 'Look for {reference} in the log of the service.', true),
  // the command line
  usage: entry(400, '{detail}', 'See `tsunagi {command} --help`.'),
  unreachable: entry(
    503,
    'The service at {url} does not answer: {detail}',
    'Start it with `tsunagi serve`, or sign in elsewhere with `tsunagi sign-in URL`.',
    true,
  ),
  not_signed_in: entry(401, 'There is no service to talk to.', 'Sign in: `tsunagi sign-in URL --token TOKEN`.'),
  no_project: entry(400, 'Which project?', 'Add `--project NAME`, or stand in its checkout.'),
  // set-up
  setting_wrong: entry(400, 'The setting {name} can not be used: {detail}.', 'docs/operating.md lists the settings.'),
  port_taken: entry(409, 'The port {port} for {what} is in use.', 'End the other program, or choose another: `--port {what}=NUMBER`.'),
  tool_missing: entry(503, '{tool} is not installed.', 'Install it: {command}'),
  sandbox_missing: entry(503, 'No work can be done: {why}', '{hint}'),
} as const satisfies Record<string, ErrorEntry>;

export type ErrorCode = keyof typeof registry;
export type IssueData = Record<string, string | number | null | undefined>;

/** One thing that is wrong, as data. */
export interface Issue {
  code: ErrorCode;
  data: IssueData;
}

/** A fresh issue. */
export const issue = (code: ErrorCode, data: IssueData = {}): Issue => ({ code, data });

const fill = (text: string, data: IssueData) => text.replace(/\{(\w+)\}/g, (_, name: string) => String(data[name] ?? ''));

/** The words of an issue: `says` what happened and why, `next` what to do. An unknown code (of a newer service) is shown as it is. */
export function wording(one: Issue): { says: string; next: string } {
  const known: ErrorEntry | undefined = registry[one.code];
  if (!known) return { says: String(one.code), next: '' };
  return { says: fill(known.says, one.data), next: fill(known.next, one.data) };
}

/** An issue that is thrown. `cause` keeps what it was made of. */
export class CodedError extends Error {
  readonly issue: Issue;
  constructor(code: ErrorCode, data: IssueData = {}, cause?: unknown) {
    super(wording({ code, data }).says, cause === undefined ? undefined : { cause });
    this.name = 'CodedError';
    this.issue = { code, data };
  }
  get status(): number {
    return registry[this.issue.code].status;
  }
}
