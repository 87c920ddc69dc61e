/** Why runs, tasks, deployments and programs did not do what was asked. */
import { entry, type ErrorEntry } from './entry.js';

export const reasons = {
  // runs
  tree_too_large: entry(
    422,
    'The commit {commit} has more than {limit}.',
    'Take generated files out of the repository, or choose a folder of it for the project.',
  ),
  git_object_large: entry(
    422,
    'An object of the repository ({kind}) is larger than {limit}.',
    'Take it out of the repository.',
  ),
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
  path_unusable: entry(
    422,
    'The name of the file {name} cannot be laid out: {why}.',
    'Rename the file and push again.',
  ),
  no_agent_for_versions: entry(
    409,
    'No agent has {tool} {range}; the agents have {have}.',
    'Widen `tools`, or install that version on an agent.',
    true,
  ),
  branch_unfit: entry(
    422,
    '`{branch}` cannot be the name of a branch that is made from what is live.',
    'Name another one with `--branch`: letters, digits and dashes, and not the main branch.',
  ),
  branch_elsewhere: entry(
    409,
    'The branch {branch} is there already and does not come from {release}.',
    'Name another one with `--branch`, or go on with a branch of your own.',
  ),
  live_absent: entry(
    409,
    'The commit {commit} of {release} is not in this project’s repository.',
    'Push it here first.',
  ),
  since_unknown: entry(
    409,
    '{release} has no evidence of `{task}`: nothing says that it was good there.',
    'Name a release that `tsunagi release show` has evidence of it for.',
  ),
  since_elsewhere: entry(
    409,
    'The commit of {release} does not come before {commit}.',
    'Name a release of the same branch, or another branch with `--ref`.',
  ),
  since_far: entry(409, 'More than {limit} commits have come since {release}.', 'Name a newer release.'),
  since_untold: entry(
    409,
    'Run {run} of {commit} ended without a word on `{task}`.',
    'Look at the run, and start this again.',
  ),
  since_same: entry(409, 'Nothing has come since {release}.', 'Name an older release, or another branch with `--ref`.'),
  ref_unknown: entry(
    404,
    '`{ref}` is not a branch, commit or pull request of {project}.',
    'Push it first; `tsunagi run list` shows what has arrived.',
  ),
  run_goes_on: entry(409, 'run {number} has not ended yet.', 'Wait until it has, or stop it.', true),
  run_over: entry(409, 'run {number} has ended: {state}.', 'Start a new one with `tsunagi run start`.'),
  run_untrusted: entry(
    409,
    'Commit {commit} comes from an untrusted pull request and waits until a developer has allowed it.',
    'Look at the commit, then `tsunagi run allow {commit}`.',
  ),
  run_trusted: entry(
    409,
    'Commit {commit} is one of the project’s own: it needs no permission.',
    'Run it: `tsunagi run start {commit}`.',
  ),
  command_failed: entry(
    200,
    'The command `{command}` ended with exit status {exit}.',
    'Read its output: `tsunagi {look}`.',
  ),
  command_killed: entry(
    200,
    'The command `{command}` was ended by signal {signal}.',
    'Read its output; a signal 9 often means that memory ran out.',
  ),
  task_timeout: entry(
    200,
    'It took longer than its timeout of {timeout}; the whole process tree was ended.',
    'Make it faster, or raise `timeout`.',
  ),
  output_missing: entry(200, 'The declared output {path} was not made.', 'Make it, or take it out of `makes`.'),
  output_unsafe: entry(
    422,
    'The output {path} cannot be kept: {why}.',
    'Keep only files, folders and links that stay inside.',
  ),
  output_broken: entry(
    422,
    'The output is not a whole archive: {detail}.',
    'Make it again; what is sent must be a tar from its beginning to its end.',
  ),
  output_too_large: entry(
    413,
    'The output is larger than {limit}.',
    'Keep only what later tasks and the release need.',
  ),
  cache_link: entry(
    200,
    'The cache {path} lies behind a link, or is a file.',
    'Cache a folder that no link of the repository or of an output leads through.',
  ),
  agent_hurt: entry(
    200,
    'It took its agent {agent} along: {why}. No other attempt follows automatically.',
    'Let it start fewer processes and need less memory, then run it again.',
  ),
  results_unreadable: entry(
    200,
    'The results in {path} could not be read: {detail}.',
    'Let the test runner write JUnit XML or TAP there.',
  ),
  results_missing: entry(
    200,
    'The results {path} were not written.',
    'Let the test runner write JUnit XML or TAP there, or remove `results`.',
  ),
  coverage_unreadable: entry(
    200,
    'The coverage in {path} could not be read: {detail}.',
    'Let the test runner write LCOV there.',
  ),
  coverage_missing: entry(
    200,
    'The coverage {path} was not written.',
    'Let the test runner write LCOV there, or remove `coverage`.',
  ),
  plan_reused: entry(200, 'It passed in run {run} with the same inputs.', ''),
  plan_first: entry(200, 'It has not run before.', ''),
  plan_changed: entry(200, 'Since run {run} this has changed: {what}.', ''),
  plan_need_runs: entry(
    200,
    '{need} runs before it; it is reused after all if that makes the same bytes as before.',
    '',
  ),
  plan_no_reuse: entry(200, 'Its definition says that it always runs.', ''),
  plan_not_passed: entry(200, 'With the same inputs it failed in run {run}.', ''),
  plan_flaky_or_gone: entry(
    200,
    'It passed in run {run}, but also failed with the same inputs, or its outputs are gone.',
    '',
  ),
  disk_nearly_full: entry(
    503,
    'The disk of {where} is nearly full: {free} are free, {wanted} are wanted. New attempts wait.',
    'Make room there, or keep fewer runs and releases; they go on by themselves.',
    true,
  ),
  output_gone: entry(
    410,
    'An output of this run ({digest}) is gone or broken: no release can be made of it.',
    'Start it again with `--without-reuse`.',
  ),
  release_gone: entry(
    410,
    'The bytes of r{number} are not kept any more.',
    'Run its commit again: `tsunagi run start {commit}`.',
  ),
  superseded_by: entry(200, 'run {run} of a newer push took its place.', 'Look at run {run}.'),
  waits_for_run: entry(200, 'It waits until run {run} has ended.', 'It begins automatically then.'),
  stopped_by: entry(200, 'It was stopped by {who}.', 'Start it again when wanted.'),
  out_of_memory: entry(
    200,
    'The command `{command}` was ended: it needed more memory than the {limit} that a task has here.',
    'Let it need less, or ask the operator for a higher limit.',
  ),
  too_many_processes: entry(
    200,
    'The command `{command}` failed after it was refused more than {limit} processes.',
    'Let it start fewer at a time.',
  ),
  disk_full: entry(
    200,
    '{place} is full: a task has {limit} there.',
    'Let the task write less, or clean up as it goes.',
  ),
  too_many_files: entry(
    200,
    'It made more than the {limit} files that a task may make here.',
    'Let it make fewer, or clean up as it goes.',
  ),
  database_full: entry(
    200,
    'Its databases took more than the {limit} that a task has for them.',
    'Let it write less, or clean up as it goes.',
  ),
  report_refused: entry(
    200,
    'The service did not take the report of its agent: {detail}',
    'Look at the log of the service, then run it again.',
  ),
  agent_lost: entry(200, 'Its agent {agent} went away.', 'Another attempt follows automatically.', true),
  setup_failed: entry(
    200,
    'The sandbox could not be made: {detail}.',
    'Look at the agent on that machine: `tsunagi agent list`.',
    true,
  ),
  // deployments
  prepare_failed: entry(200, 'prepare failed: {detail}', 'Read its output, fix it and push.'),
  prepare_unknown: entry(
    409,
    'The agent went away while prepare ran, so nobody knows how far it got.',
    'Look at the data, then deploy again.',
  ),
  seed_failed: entry(
    200,
    'seed failed: {detail}',
    'Read its output, fix it and push; `tsunagi review reset` begins anew with empty data.',
  ),
  seed_unknown: entry(
    409,
    'The agent went away while seed ran, so nobody knows how much of the data is there.',
    'Begin anew with empty data: `tsunagi review reset`.',
  ),
  verify_failed: entry(200, 'verify failed: {detail}', 'Read its output, fix it and push.'),
  ended_at_once: entry(
    200,
    '{part} ended with exit status {exit} before it was ready: {line}',
    'Fix the program or its start command.',
  ),
  ended_itself: entry(
    200,
    '{part} ended with exit status {exit} while it served; its last words: {line}',
    'It is started again by itself. Where it happens again and again, its log says more.',
  ),
  listens_elsewhere: entry(
    200,
    '{part} listens on {ports}, it was given PORT={port}.',
    'Listen on the port in the variable PORT.',
  ),
  not_listening: entry(
    200,
    '{part} did not listen on PORT={port} within {wait}.',
    'Listen on the port in the variable PORT, and sooner.',
  ),
  not_ready: entry(
    200,
    '{part} answered {answer} at {path} for {wait}.',
    'Let {path} answer 200 when the program is ready.',
  ),
  worker_ended: entry(
    200,
    'The worker {part} ended with exit status {exit}: {line}',
    'A worker runs until it is told to end; fix the program.',
  ),
  edge_refused: entry(
    200,
    'The edge {edge} cannot serve this release: {detail}',
    'Fix what is said, and deploy a release without it.',
  ),
  lease_over: entry(
    200,
    'The worker {part} was ended: its agent had lost touch with the service.',
    'It starts again automatically.',
    true,
  ),
  instance_setup: entry(200, '{part} could not be started: {detail}', 'Look at the agent on that machine.', true),
  ended_by_revert: entry(
    200,
    '{who} has reverted the environment meanwhile.',
    'Lift the hold, and deploy it again when wanted.',
  ),
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
  scale_wrong: entry(422, '{part} can have from {least} to {most} instances.', 'Ask for as many as that.'),
  no_room: entry(
    200,
    'No agent has {memory} of memory left for {part}; the most that one has is {largest}.',
    'Let it need less, scale something else down, or add an agent.',
    true,
  ),
  nothing_live: entry(
    409,
    'Nothing is live in {environment}.',
    'Deploy a release first: `tsunagi deploy rN --to {environment}`.',
  ),
  environment_held: entry(409, '{environment} is on hold: {why}', 'Lift the hold first: `tsunagi lift {environment}`.'),
  reviews_many: entry(
    409,
    '{project} has {count} reviews open, which is as many as there may be.',
    'Close some that nobody needs, with `tsunagi review close`; a push to its pull request opens this one then.',
  ),
  reviews_of_author: entry(
    409,
    '{author} has {count} reviews open in {project}, which is as many as one may have.',
    'Close some that nobody needs, with `tsunagi review close`; a push to its pull request opens this one then.',
  ),
  review_undeclared: entry(
    409,
    'The main branch of {project} declares no reviews.',
    'Declare an environment with `for: pull requests` there.',
  ),
  branch_absent: entry(
    404,
    '{project} has no branch {branch}.',
    'Push it first, or `tsunagi project fetch {project}`.',
  ),
  review_standing: entry(
    409,
    '{environment} is no review: it stands, and neither sleeps nor closes.',
    '`tsunagi review list` shows the reviews.',
  ),
  links_needless: entry(
    409,
    '{environment} is not opened with links: its `access` is {access}.',
    'Write `access: link` at the review environment of the main branch.',
  ),
  links_many: entry(
    409,
    '{environment} has {count} links that are good already.',
    'Take some back: `tsunagi review link {environment} --end`.',
  ),
  gate_session: entry(
    403,
    'Only a browser that is signed in at the console is led to a review.',
    'Sign in there. A program looks at a review by a link or a pass.',
  ),
  review_asleep: entry(
    503,
    '{environment} sleeps, and could not be woken: {why}',
    'Look at its log, then `tsunagi review wake {environment}`.',
    true,
  ),
  review_empty: entry(
    409,
    'Nothing is live in {environment} yet, so it neither sleeps nor wakes.',
    '`tsunagi review show {environment}` says what it waits for.',
  ),
  environment_closed: entry(409, '{environment} is closed.', 'Open the pull request again.'),
  not_promotable: entry(409, '{release} cannot be promoted to {environment}: {why}', '{next}'),
  rules_apply: entry(
    409,
    '{environment} takes releases after {after}; it is not deployed to directly.',
    'Use `tsunagi promote {release} --to {environment}`.',
  ),
  nothing_to_promote: entry(
    409,
    'There is nothing to promote to {environment}: {why}',
    'Let {after} verify a newer release first.',
  ),
  nothing_to_revert: entry(
    409,
    'There is no earlier release to go back to in {environment}.',
    'Deploy a release with `tsunagi deploy rN --to {environment}`.',
  ),
  already_live: entry(409, '{release} is live in {environment} already.', 'Nothing needs to be done.'),
  not_held: entry(409, '{environment} is not on hold.', 'Nothing needs to be done.'),
  warm_gone: entry(200, 'The earlier servers have ended and were started anew.', 'Nothing needs to be done.'),
  // why a program did not do what it was asked to
  start_script_missing: entry(
    200,
    '{what}: `{command}` asks npm for the script {script}, and package.json has none.',
    'Add the script, or start the program itself, such as `node server.js`.',
  ),
  command_missing: entry(
    200,
    '{what}: there is no command {name}.{near}',
    'Fix the command, or make it in a task that this needs.',
  ),
  file_missing: entry(
    200,
    '{what}: there is no file {path}.{near}',
    'Fix the name, or make the file in a task that this needs.',
  ),
  file_undeclared: entry(
    200,
    '{what}: {path} is in the repository, and is not among what this sees.',
    'Add `{path}` to {key}.',
  ),
  package_missing: entry(
    200,
    '{what}: the package {name} is not installed.',
    'Name it in {file}, and let this need the task that installs packages.',
  ),
  tool_version: entry(
    200,
    '{what}: it wants {tool} {wants}, and has {has}.',
    'Write the version into `tools` of the definition: `{tool}: "{wants}"`.',
  ),
  variable_missing: entry(
    200,
    '{what}: it needs the variable {name}, which it does not get. {line}',
    'Declare {name} under `variables`, and set it: `tsunagi variable set {name}=VALUE`.',
  ),
  waits_for_input: entry(
    200,
    '{what}: it asks for input, and nobody is there to answer: {line}',
    'Give the answer by an option or a variable of the program.',
  ),
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
} as const satisfies Record<string, ErrorEntry>;
