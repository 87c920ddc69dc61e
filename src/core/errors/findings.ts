/** What is found wrong in a definition, a file of variables, a repository. */
import { entry, type ErrorEntry } from './entry.js';

export const findings = {
  // definition
  definition_missing: entry(
    422,
    'The commit {commit} has no {path}.',
    'Add {path} to the repository; `tsunagi check` tells whether it is valid.',
  ),
  definition_proposed: entry(
    422,
    'There is no tsunagi.yaml here; this is what would fit it ({what}).',
    'Write it and go on: `tsunagi rehearse --write`.',
  ),
  no_checkout: entry(400, '{folder} is not in a git checkout with a commit.', 'Stand in the checkout of the project.'),
  definition_invalid: entry(
    422,
    '{path} has {count} that must be fixed: {first}',
    'Run `tsunagi check` in the checkout; it lists them all with line and column.',
  ),
  definition_too_large: entry(
    422,
    '{path} is larger than {limit}.',
    'Keep the definition small; move scripts into files of their own.',
  ),
  definition_nested: entry(
    422,
    'More than {limit} brackets are open in each other here.',
    'Close them, or write the values one below the other.',
  ),
  definition_slow: entry(
    422,
    'Reading {what} took too long and was given up.',
    'Make it smaller: fewer tasks, values and patterns.',
  ),
  yaml_syntax: entry(422, 'This is not valid YAML: {detail}.', 'Fix the syntax at this place.'),
  yaml_feature: entry(
    422,
    '{what} are not part of the definition language.',
    'Write the value out, or quote it if it is meant as text.',
  ),
  encoding: entry(422, 'The text is not valid UTF-8.', 'Save the file as UTF-8.'),
  unknown_key: entry(422, '`{key}` is not known here.', '{hint}'),
  key_renamed: entry(422, '`{key}` has another name now.', 'Write `{now}`.'),
  not_yet_supported: entry(
    422,
    '`{key}` is part of the language but not yet supported by this version.',
    'Leave it out until a later version.',
  ),
  repeated_key: entry(422, '`{key}` appears twice.', 'Keep one of the two.'),
  required_key: entry(422, '`{key}` is missing in {place}.', 'Add `{key}`: {about}'),
  wrong_kind: entry(422, 'Here {expected} is expected, not {found}.', 'Write {expected}.'),
  wrong_text: entry(422, '`{text}` is not {expected}.', 'Write {expected}, for example `{example}`.'),
  list_long: entry(422, '`{place}` has {count} entries, and may have {most}.', 'Leave some out.'),
  wrong_choice: entry(422, '`{text}` is not one of {choices}.', '{hint}'),
  unknown_task: entry(422, 'There is no task `{name}`.', '{hint}'),
  unknown_part: entry(422, 'There is no part `{name}`.', '{hint}'),
  unknown_volume: entry(422, 'No volume `{name}` is declared in `resources`.', '{hint}'),
  unknown_variable: entry(422, 'No variable `{name}` is declared.', '{hint}'),
  settings_secret: entry(
    422,
    '`{name}` is a secret, and a settings file is shown to everybody.',
    'Take it out of `settings`, or remove the variable and set it anew as plain text.',
  ),
  copy_of_review: entry(
    422,
    'Reviews are not copied: `{name}` is one.',
    'Name an environment that stays, such as `staging`.',
  ),
  copy_without_scrub: entry(
    422,
    '`{name}` does not say what makes a copy of its data fit for others.',
    'Declare `scrub` there: a part, and the command that removes what others may not see.',
  ),
  unknown_resource: entry(422, 'There is no database `{name}` in `resources`.', '{hint}'),
  environment_unnamable: entry(
    422,
    'An environment cannot be named `{name}`: that is a page of each project.',
    'Give it another name.',
  ),
  unknown_environment: entry(422, 'There is no environment `{name}` in the definition.', '{hint}'),
  unknown_reference: entry(422, 'No variable can come from `{name}` here.', '{hint}'),
  needs_in_circle: entry(422, 'These need each other in a circle: {circle}.', 'Take one of the needs away.'),
  key_not_for: entry(422, '`{key}` has no meaning for {kind}.', 'Remove it, or change the kind.'),
  taken_name: entry(422, '`{name}` is taken: {why}.', 'Choose another name.'),
  taken_variable: entry(422, '`{name}` is set by the service and cannot be declared.', 'Choose another name.'),
  one_of_keys: entry(422, '{place} says {found} of {keys}.', 'Say exactly one of them.'),
  bounds_crossed: entry(422, 'The fewest, {min}, are more than the most, {max}.', 'Give `max` at least as many.'),
  name_twice: entry(
    422,
    '`{name}` is {first} and {second}.',
    'Give one of them another name: both begin references of variables.',
  ),
  same_address: entry(422, 'The parts `{first}` and `{second}` are both at `{at}`.', 'Give one of them another `at`.'),
  job_often: entry(422, 'A job runs every {least} at most.', 'Make it a worker, which may wait by itself.'),
  job_time: entry(
    422,
    '`{text}` is not a time of the day with its place.',
    'Write it as `05:00 Europe/Oslo`, or `mon 05:00 Europe/Oslo`.',
  ),
  address_twice: entry(
    422,
    '{name} is an address of both {first} and {second}.',
    'An address leads to one environment: keep one of the two.',
  ),
  no_parts: entry(422, 'A release needs at least one part.', 'Add a part, or remove `release`.'),
  repeated_value: entry(422, 'The value `{value}` appears twice.', 'Keep one of the two.'),
  too_many_pieces: entry(
    422,
    '`{task}` would become {count} tasks; at most {limit} come of one.',
    'Remove values or shards.',
  ),
  cache_and_makes: entry(
    422,
    'The cache `{path}` and the output `{made}` lie in each other.',
    'Cache another folder, or take it out of `makes`.',
  ),
  evidence_left_out: entry(
    422,
    'The release needs `{task}`, and `{key}` leaves it out for some commits.',
    'Take `{key}` away, or take `{task}` out of what the release needs.',
  ),
  pattern_matches_nothing: entry(
    200,
    '`{pattern}` in {place} matches no file of this commit.',
    'Fix the pattern, or remove it.',
  ),
  unread_root_file: entry(
    200,
    '{place} does not read {file}, which tools often look for.',
    'Add it to `reads` if the task depends on it.',
  ),
  filter_attribute: entry(
    200,
    '{file} asks for filters ({attribute}); files are laid out as they are stored, without them.',
    'Take the attribute away, or expect the stored bytes.',
  ),
  // variables
  dotenv_line: entry(422, '`{text}` is not `NAME=value`.', 'Write `NAME=value`, or put a # before it.'),
  dotenv_quote: entry(422, 'The {quote} quote of {name} is not closed.', 'Close it; what follows it was not read.'),
  dotenv_rest: entry(422, 'There is text after the closing quote of {name}.', 'Put the whole value into the quotes.'),
  dotenv_repeated: entry(200, '{name} stands on line {line}, too; the later one counts.', 'Keep one of the two.'),
  dotenv_expansion: entry(
    200,
    'The value of {name} refers to another variable; it is taken as it stands.',
    'Write the whole value.',
  ),
  variable_name: entry(
    422,
    '`{name}` cannot be the name of a variable.',
    'Use letters, digits and underscores, not beginning with a digit.',
  ),
  variable_value: entry(422, 'The value of {name} cannot be kept: {why}.', 'Fix the value.'),
  variable_taken: entry(422, '{name} is set by the service.', 'Choose another name.'),
  variable_twice: entry(422, '{name} appears twice.', 'Keep one of the two.'),
  variable_stranger: entry(
    403,
    'The task {task} wants the secret {name}, which work of untrusted pull requests does not get.',
    'Leave that task out for pull requests (`for: [main]`), or let a trusted person propose the change.',
  ),
  secret_unreadable: entry(
    409,
    'The secret {name} can no longer be opened.',
    'Set it again: `tsunagi variable set {name} --secret`.',
  ),
  secret_short: entry(
    422,
    'The secret {name} has fewer than {least} characters: it could not be masked in logs.',
    'Use a longer one, or set it as plain text.',
  ),
  // what is recognised in a repository
  recognise_nothing: entry(
    200,
    'Nothing was recognised that could be run or served.',
    'Say in the definition what starts it, or choose another folder.',
  ),
  recognise_no_lock: entry(
    200,
    'There are {count} dependencies and no {file}: nothing says which versions.',
    'Make the lock file and commit it: `{command}`.',
  ),
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
  recognise_tool: entry(
    200,
    'It is made with {tool}, which is not recognised.',
    'Write the tasks by hand; `tsunagi check` looks at them.',
  ),
  recognise_server_missing: entry(
    200,
    '{file} needs a server such as {servers}, and none is among the requirements.',
    'Add one to {requirements}.',
  ),
  recognise_artifact: entry(
    200,
    'The file that Maven writes could not be told from pom.xml.',
    'Fix `makes` and `start` of the proposal.',
  ),
} as const satisfies Record<string, ErrorEntry>;
