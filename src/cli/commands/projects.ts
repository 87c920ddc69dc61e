/** project list, add, recognise, draft, look. */
import { readFileSync, writeFileSync } from 'node:fs';
import { type Command, Option } from 'commander';
import { type BeginningKind, beginningKinds } from '../../core/states.js';
import { CodedError } from '../../core/errors/errors.js';
import type { AddedProject, Project } from '../../wire/projects.js';
import { costText, countText, takesText } from '../../core/ahead.js';
import type { EnvironmentDetail } from '../../wire/environments/environments.js';
import type { PageOf } from '../../wire/parts.js';
import type { Run } from '../../wire/runs.js';
import type { DefinitionCheck, Draft, Recognised, RecogniseBody } from '../../wire/guide.js';
import type { CredentialBody } from '../../wire/parts.js';
import { get, post, projectName } from '../api.js';
import { bold, faint, plain, say, short, table } from '../print.js';
import { followRun } from './acts.js';
import { keyCommands } from './keys.js';
import { ownerCommands } from './owners.js';
import { give, type Shared, shared } from './shared.js';

interface Add extends Shared {
  hosted?: boolean;
  notified?: string;
  from?: string;
  main?: string;
  branch?: string;
  folder?: string;
  user?: string;
  key?: string;
  allowPrivate?: boolean;
  pullRequests?: string;
  answer: string[];
  yes?: boolean;
  wait: boolean;
}

export function projectCommands(program: Command): void {
  const project = program.command('project').description('repositories and where their commits come from');
  shared(project.command('list').description('all projects'), 'tsunagi project list', { project: false }).action(
    async (options: Shared) =>
      give(options, await get<PageOf<Project>>('/api/projects'), ({ items }) =>
        say(
          table(
            ['PROJECT', 'SOURCE', 'MAIN', 'ADDRESS', ''],
            items.map((one) => [
              one.name,
              one.source,
              one.mainBranch,
              one.url ?? one.endpoint,
              one.issue ? plain(one.issue.says) : one.paused ? 'paused' : one.draft ? 'draft definition' : '',
            ]),
          ),
        ),
      ),
  );
  shared(
    project
      .command('add <name>')
      .description('add a project: from any git address, notified by its code host, or hosted here')
      .addHelpText('after', '\nA password or token is read from TSUNAGI_SOURCE_PASSWORD, never from the command line.'),
    'tsunagi project add tide-tables --from https://code.kohama.example/tide-tables.git',
    { project: false },
  )
    .option(
      '--from <url>',
      'a git address (https, http, ssh; file for owners) that is looked at regularly; what it needs is recognised',
    )
    .option('--notified <url>', 'its code host sends events, and is fetched from')
    .option('--hosted', 'its commits are pushed to this service; default')
    .option('--branch <branch>', 'the main branch; default: what the repository says')
    .option('--folder <path>', 'the project’s folder in a larger repository')
    .option('--pull-requests <refs>', 'refs of its pull requests, `*` for the number: refs/pull/*/head; with --from')
    .option('--user <name>', 'the user name at the source')
    .option('--key <file>', 'a private key for ssh')
    .option('--allow-private', 'the address may lead into a private network')
    .option(
      '--answer <id=value>',
      'answers a question of the proposal (again for more)',
      (one: string, all: string[]) => [...all, one],
      [],
    )
    .option('-y, --yes', 'do not ask')
    .option('--no-wait', 'do not wait until it is live')
    .action((name: string, options: Add) => (options.from ? addFrom(name, options) : addPlain(name, options)));

  shared(
    project
      .command('propose')
      .description('what is recognised in the newest commit, and the definition that would be proposed'),
    'tsunagi project propose --project tide-tables',
  ).action(async (options: Shared) =>
    give(options, await get<Recognised>(`${await pathOf(options)}/proposal`), showProposal),
  );

  shared(
    project
      .command('new <name>')
      .description('a hosted project with a first commit that passes its tests, live in one step')
      .addOption(new Option('--from <beginning>', 'what it begins with').choices(beginningKinds).makeOptionMandatory()),
    'tsunagi project new pier-notes --from node-api',
    { project: false },
  )
    .option('--no-wait', 'do not wait until it is live')
    .action(async (name: string, options: Shared & { from: BeginningKind; wait: boolean }) => {
      const added = await post<AddedProject>('/api/projects', { name, source: 'hosted', begin: options.from });
      if (options.json && !options.wait) return give(options, added, () => {});
      if (!options.json)
        say(
          `${bold(added.name)} begins from ${options.from}.`,
          `Its repository: git clone ${added.endpoint.replace('//', '//x:TOKEN@')}`,
          'TOKEN is one of the role developer or higher: tsunagi token add push --role developer',
        );
      if (options.wait) await toFirstAddress(name, options);
    });

  const draft = project.command('draft').description('the definition of commits that have none of their own');
  shared(
    draft.command('show').description('the draft, and what committing it would change'),
    'tsunagi project draft show --project tide-tables',
  ).action(async (options: Shared) =>
    give(options, await get<Draft>(`${await pathOf(options)}/draft`), (one) =>
      say(one.text === null ? 'There is no draft.' : one.difference || 'It is committed.'),
    ),
  );
  shared(
    draft
      .command('set <file>')
      .description('keep a definition as the draft, and run the newest commit with it (- is standard input)'),
    'tsunagi project draft set tsunagi.yaml --project tide-tables',
  ).action(async (file: string, options: Shared) => {
    const text = readFileSync(file === '-' ? 0 : file, 'utf8');
    const looked = await post<Draft>(`${await pathOf(options)}/draft`, { text, look: true });
    const wrong = looked.issues.filter((one) => one.severity === 'error');
    for (const one of wrong) say(`line ${one.line}: ${plain(one.says)} ${faint(plain(one.next))}`);
    if (wrong.length) {
      process.exitCode = 1;
      return;
    }
    give(options, await post<Draft>(`${await pathOf(options)}/draft`, { text }), () =>
      say('The draft is saved; the newest commit runs with it.'),
    );
  });
  shared(
    draft.command('save <file>').description('write the draft into a file, to be committed'),
    'tsunagi project draft save tsunagi.yaml --project tide-tables',
  ).action(async (file: string, options: Shared) => {
    const { text } = await get<Draft>(`${await pathOf(options)}/draft`);
    if (text === null)
      throw new CodedError('not_found', { what: 'A draft', hint: 'Keep one first: `tsunagi project draft set FILE`.' });
    writeFileSync(file, text);
    say(`${file} is written. Commit and push it.`);
  });
  shared(
    draft.command('commit').description('let the service commit the draft (hosted projects)'),
    'tsunagi project draft commit --project tide-tables',
  ).action(async (options: Shared) =>
    give(options, await post<Draft>(`${await pathOf(options)}/draft/commit`), () =>
      say('The draft is committed on the main branch.'),
    ),
  );

  shared(
    project.command('fetch').description('fetch a polled source now'),
    'tsunagi project fetch --project tide-tables',
  ).action(async (options: Shared) =>
    give(options, await post(`${await pathOf(options)}/fetch`), () => say('Fetching now.')),
  );
  ownerCommands(program, project);
  keyCommands(program);
}

const pathOf = async (options: Shared): Promise<string> =>
  `/api/projects/${encodeURIComponent(await projectName(options.project))}`;

async function addPlain(name: string, options: Add): Promise<void> {
  const credential = credentialOf(options);
  const body = {
    name,
    source: options.notified ? 'notified' : 'hosted',
    mainBranch: options.branch ?? 'main',
    ...(options.folder ? { folder: options.folder } : {}),
    ...(options.notified
      ? { url: options.notified, allowPrivate: options.allowPrivate === true, ...(credential ? { credential } : {}) }
      : {}),
  };
  give(options, await post<AddedProject>('/api/projects', body), (one) => {
    say(`${bold(one.name)} is added.`);
    if (one.eventSecret)
      say(
        `Let the code host send its events to ${one.endpoint}`,
        `and sign them with this secret, shown this once: ${one.eventSecret}`,
      );
    else
      say(
        `Push to it:  git push ${one.endpoint.replace('//', '//x:TOKEN@')} ${one.mainBranch}`,
        'TOKEN is one of the role developer or higher: tsunagi token add push --role developer',
      );
  });
}

function credentialOf(options: Add): CredentialBody | undefined {
  const password = process.env.TSUNAGI_SOURCE_PASSWORD;
  if (options.key) return { key: readFileSync(options.key, 'utf8') };
  if (options.user && !password)
    throw new CodedError('usage', {
      detail: 'The password for --user is read from TSUNAGI_SOURCE_PASSWORD, which is not set.',
      command: 'project add',
    });
  return password ? { user: options.user ?? 'git', password } : undefined;
}

async function addFrom(name: string, options: Add): Promise<void> {
  const credential = credentialOf(options);
  const source = {
    url: options.from as string,
    ...(credential ? { credential } : {}),
    ...(options.allowPrivate ? { allowPrivate: true } : {}),
  };
  const answers: Record<string, string> = options.folder ? { folder: options.folder } : {};
  for (const one of options.answer) {
    const at = one.indexOf('=');
    if (at < 1) throw new CodedError('usage', { detail: `\`${one}\` is not id=value.`, command: 'project add' });
    answers[one.slice(0, at)] = one.slice(at + 1);
  }
  const body: RecogniseBody = { ...source, ...(options.branch ? { branch: options.branch } : {}), answers };
  let proposal = await post<Recognised>('/api/sources/proposal', body);
  const asking = process.stdin.isTTY && !options.yes && !options.json;
  if (asking) {
    for (;;) {
      const open = proposal.questions.find((one) => !one.given && !Object.hasOwn(answers, one.id));
      if (!open) break;
      answers[open.id] = await answerTo(open);
      proposal = await post<Recognised>('/api/sources/proposal', { ...body, answers });
    }
  }
  if (!options.json) {
    showProposal(proposal);
    await showAhead(name, proposal);
  }
  if (asking && !/^(y(es)?)?$/i.test((await prompt('Add it like this? [Y/n] ')).trim())) {
    say('Nothing was added. Answers can be given with --answer, and a definition of your own be committed.');
    return;
  }
  const added = await post<AddedProject>('/api/projects', {
    name,
    source: 'polled',
    ...source,
    mainBranch: proposal.branch,
    folder: proposal.folder,
    ...(proposal.hasDefinition ? {} : { draft: proposal.text }),
  });
  if (options.pullRequests)
    await post(`/api/projects/${encodeURIComponent(name)}/change`, { pullRequests: options.pullRequests });
  if (options.json && !options.wait) return give(options, added, () => {});
  if (!options.json) say('', `${bold(added.name)} is added, and its branch ${proposal.branch} is being fetched.`);
  if (!options.wait) return;
  await toFirstAddress(name, options);
}

/** Follows the first run and what it makes live. */
async function toFirstAddress(name: string, options: Shared): Promise<void> {
  let run: Run | undefined;
  for (let tries = 0; !run && tries < 600; tries++) {
    run = (await get<PageOf<Run>>(`/api/runs?project=${name}&limit=1`)).items[0];
    const seen = run ? null : await get<Project>(`/api/projects/${name}`);
    if (seen?.issue) throw new CodedError(seen.issue.code as never, seen.issue.data as never);
    if (!run) await new Promise((resolve) => setTimeout(resolve, 100));
  }
  if (!run) return;
  if ((await followRun(name, run.number, !options.json)).state !== 'passed') {
    process.exitCode = 1;
    return;
  }
  let last = '';
  for (let tries = 0; tries < 1_200; tries++) {
    const { items } = await get<PageOf<EnvironmentDetail>>(`/api/projects/${name}/environments`);
    const first = items.find((one) => one.branch !== null);
    if (!first) return;
    if (first.issue) {
      say(plain(first.issue.says), faint(plain(first.issue.next)));
      process.exitCode = 1;
      return;
    }
    if (first.failed?.failure && !first.moving) {
      say(`${bold('failed')}  ${plain(first.failed.failure.says)}`, faint(plain(first.failed.failure.next)));
      process.exitCode = 1;
      return;
    }
    if (first.live && !first.moving) {
      give(options, first, () =>
        say(
          `${bold('live')}  ${first.url}  ${short(first.live?.commit.id ?? '')} ${plain(first.live?.commit.title ?? '')}`,
        ),
      );
      return;
    }
    const now = first.moving?.state ?? '';
    if (now && now !== last && !options.json) say(faint(`${name}/${first.name}: ${now}`));
    last = now;
    await new Promise((resolve) => setTimeout(resolve, 100));
  }
}

/** What will be made, before anything is. */
async function showAhead(project: string, { own, text }: Recognised): Promise<void> {
  const { environments, currency } = await post<DefinitionCheck>('/api/definitions/check', {
    text: own ?? text,
    project,
  });
  if (environments.length === 0) return;
  say('', bold('What will be there'));
  for (const one of environments) {
    say(`${bold(plain(one.name))}  ${faint(`${plain(takesText(one))} · ${plain(one.addresses.join(', '))}`)}`);
    for (const part of one.parts)
      say(`  ${plain(part.name)}  ${faint(`${part.kind}${part.size ? ` × ${countText(part.size)}` : ''}`)}`);
    for (const item of one.resources) say(`  ${plain(item.name)}  ${faint(`${item.kind}, is made`)}`);
    const cost = costText({ ...one, currency });
    if (cost) say(`  ${faint(plain(cost))}`);
  }
}

function showProposal(one: Recognised): void {
  say(
    `${bold(one.found.map((item) => item.what).join(', ') || (one.hasDefinition ? 'A definition of its own' : 'Nothing that runs'))}${one.folder ? ` in ${one.folder}` : ''}  ${faint(`branch ${one.branch}, ${short(one.commit.id)} ${plain(one.commit.title)}`)}`,
    '',
  );
  if (one.hasDefinition) {
    say('It has a tsunagi.yaml, which is used as it is.');
    return;
  }
  const why = new Map(one.reasons.map((item) => [item.line, item.why]));
  const lines = one.text.trimEnd().split('\n');
  const width = Math.min(64, Math.max(...lines.map((text) => text.length)) + 2);
  for (const [at, text] of lines.entries())
    say(
      why.has(at + 1) ? `${plain(text).padEnd(width)} ${faint(plain(why.get(at + 1) ?? ''))}`.trimEnd() : plain(text),
    );
  for (const item of one.questions)
    say(
      '',
      `${plain(item.ask)} ${bold(plain(item.answer))}${item.given ? '' : faint(` (taken as likeliest; another: --answer ${item.id}=${plain(item.answers[1]?.value ?? '…')})`)}`,
    );
  if (one.notes.length)
    say('', ...one.notes.map((item) => `${bold('note')}  ${plain(item.says)} ${faint(plain(item.next))}`));
}

async function prompt(text: string): Promise<string> {
  const { createInterface } = await import('node:readline/promises');
  const asking = createInterface({ input: process.stdin, output: process.stderr });
  const answer = await asking.question(text);
  asking.close();
  return answer;
}

async function answerTo(question: Recognised['questions'][number]): Promise<string> {
  say(
    bold(plain(question.ask)),
    ...question.answers.map((one, at) => `  ${at + 1}  ${plain(one.value)}  ${faint(plain(one.why))}`),
  );
  const text = (await prompt(`1 to ${question.answers.length}, or another one [1] `)).trim();
  return question.answers[Number(text || 1) - 1]?.value ?? text;
}
