/** From a repository to its first live address, in four steps: source, what was recognised, settings, live. */
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import { useState } from 'react';
import type { AddedProject, Project } from '../../../../src/wire/projects';
import type { Environment } from '../../../../src/wire/environments/environments';
import type { PageOf } from '../../../../src/wire/parts';
import type { Run } from '../../../../src/wire/runs';
import type { RecogniseBody, Recognised, SourceBranches } from '../../../../src/wire/guide';
import { get, paths, post } from '../../data/api';
import { Button, short, Trouble } from '../../parts/basics';
import { Anew, Hosted } from './HostedHere';
import { Ahead } from './Ahead';
import { DefinitionEditor } from './Definition';
import { Check, Field, fieldLook, Text, smallFieldLook, Fold } from '../../parts/fields';
import { Mark } from '../../parts/Mark';

interface Source {
  url: string;
  user: string;
  password: string;
  key: string;
  allowPrivate: boolean;
}

const sourceBody = ({ url, user, password, key, allowPrivate }: Source) => ({
  url: url.trim(),
  ...(key ? { credential: { key } } : password ? { credential: { user: user || 'git', password } } : {}),
  ...(allowPrivate ? { allowPrivate } : {}),
});

export function GuidePage(): React.ReactNode {
  const [source, setSource] = useState<Source>({ url: '', user: '', password: '', key: '', allowPrivate: false });
  const [branches, setBranches] = useState<SourceBranches | null>(null);
  const [branch, setBranch] = useState('');
  const [answers, setAnswers] = useState<Record<string, string>>({});
  const [found, setFound] = useState<Recognised | null>(null);
  const [text, setText] = useState('');
  const [added, setAdded] = useState<string | null>(null);

  const recognise = useMutation({
    mutationFn: (change: { branch?: string; answers?: Record<string, string> }) => {
      const body: RecogniseBody = {
        ...sourceBody(source),
        branch: change.branch ?? branch,
        answers: change.answers ?? answers,
      };
      return post<Recognised>('/api/sources/proposal', body);
    },
    onSuccess: (one) => {
      setFound(one);
      setText(one.text);
      setBranch(one.branch);
    },
  });
  const look = useMutation({
    mutationFn: () => post<SourceBranches>('/api/sources/branches', sourceBody(source)),
    onSuccess: (one) => {
      setBranches(one);
      setAdded(null);
      recognise.mutate({ branch: one.main ?? one.branches[0] ?? 'main' });
    },
  });
  const reasons = new Map(found?.reasons.map((one) => [found.text.split('\n')[one.line - 1] ?? '', one.why]) ?? []);
  return (
    <div className="mx-auto max-w-5xl">
      <h1 className="title mb-4">From a repository to its first live address</h1>
      <ol className="flex flex-col">
        <Step number={1} title="Source" done={branches !== null}>
          <form
            className="flex flex-col gap-3"
            onSubmit={(event) => {
              event.preventDefault();
              look.mutate();
            }}
          >
            <div className="flex flex-wrap items-end gap-3 *:first:flex-1">
              <Text
                label="Address of the repository"
                value={source.url}
                set={(url) => setSource({ ...source, url })}
                placeholder="https://code.kohama.example/tide-tables.git"
                required
              />
              <Button
                kind={branches ? 'plain' : 'main'}
                type="submit"
                disabled={look.isPending || source.url.trim() === ''}
              >
                {look.isPending ? 'Connecting …' : 'Connect'}
              </Button>
            </div>
            <Fold className="text-second" title="It needs a password or key, or is in a private network">
              <div className="mt-2 grid gap-3 text-ink md:grid-cols-2">
                <Text
                  label="User name"
                  value={source.user}
                  set={(user) => setSource({ ...source, user })}
                  autoComplete="off"
                />
                <Text
                  label="Password or token"
                  type="password"
                  value={source.password}
                  set={(password) => setSource({ ...source, password })}
                  autoComplete="off"
                />
                <Field label="Private key for ssh">
                  {(id) => (
                    <textarea
                      id={id}
                      rows={3}
                      value={source.key}
                      onChange={(event) => setSource({ ...source, key: event.target.value })}
                      className={`code ${fieldLook}`}
                    />
                  )}
                </Field>
                <div className="self-center">
                  <Check
                    label="The address may lead into a private network"
                    checked={source.allowPrivate}
                    set={(allowPrivate) => setSource({ ...source, allowPrivate })}
                  />
                </div>
              </div>
            </Fold>
            {look.error ? <Trouble error={look.error} /> : null}
          </form>
          <Hosted />
          <Anew begun={setAdded} />
        </Step>
        <Step number={2} title="What was recognised" done={added !== null} waits={!found && !recognise.error}>
          {recognise.error ? <Trouble error={recognise.error} /> : null}
          {found && branches ? (
            <div className="flex flex-col gap-3">
              <div className="flex flex-wrap items-center gap-3">
                <label className="flex items-center gap-2">
                  <span className="font-semibold">Branch</span>
                  <input
                    list="branches"
                    key={found.branch}
                    defaultValue={found.branch}
                    onChange={(event) =>
                      branches.branches.includes(event.target.value) &&
                      event.target.value !== found.branch &&
                      recognise.mutate({ branch: event.target.value })
                    }
                    className={`code w-44 ${smallFieldLook}`}
                  />
                </label>
                <datalist id="branches">
                  {branches.branches.map((name) => (
                    <option key={name} value={name} />
                  ))}
                </datalist>
                <span>
                  <span className="font-semibold">
                    {found.found.map((one) => one.what).join(', ') ||
                      (found.hasDefinition ? 'A definition of its own' : 'Nothing that runs')}
                  </span>
                  {found.folder ? ` in ${found.folder}` : ''}{' '}
                  <span className="text-second">
                    in <span className="code">{short(found.commit.id)}</span> {found.commit.title}
                  </span>
                </span>
              </div>
              {found.questions.map((one) => (
                <label key={one.id} className="flex flex-wrap items-center gap-2">
                  <span className="font-semibold">{one.ask}</span>
                  <input
                    list={`answers-${one.id}`}
                    key={one.answer}
                    defaultValue={one.answer}
                    onBlur={(event) => {
                      if (event.target.value === one.answer) return;
                      const next = { ...answers, [one.id]: event.target.value };
                      setAnswers(next);
                      recognise.mutate({ answers: next });
                    }}
                    onKeyDown={(event) => event.key === 'Enter' && event.currentTarget.blur()}
                    className={`code min-w-72 ${smallFieldLook}`}
                  />
                  <datalist id={`answers-${one.id}`}>
                    {one.answers.map((answer) => (
                      <option key={answer.value} value={answer.value}>
                        {answer.why}
                      </option>
                    ))}
                  </datalist>
                  <span className="text-second">{one.given ? '' : 'the likeliest; write another one'}</span>
                </label>
              ))}
              {found.hasDefinition ? (
                <p>It has a tsunagi.yaml, which is used as it is.</p>
              ) : (
                <DefinitionEditor text={text} set={setText} reasons={reasons} />
              )}
              {found.notes.map((one) => (
                <p key={`${one.code} ${one.says}`} className="rounded-md bg-ochre-wash px-3 py-1.5">
                  {one.says} <span className="text-second">{one.next}</span>
                </p>
              ))}
            </div>
          ) : null}
        </Step>
        <Step number={3} title="Settings" done={added !== null} waits={!found && !added}>
          {found && !added ? <Settings source={sourceBody(source)} found={found} text={text} added={setAdded} /> : null}
          {added ? (
            <p className="text-second">
              {found
                ? `${added} is added. It is looked at every minute, and at once when its code host tells of a push.`
                : `${added} is added, with a first commit. What is pushed to it follows.`}
            </p>
          ) : null}
        </Step>
        <Step number={4} title="Live" done={false} waits={!added} last>
          {added ? <Live project={added} /> : null}
        </Step>
      </ol>
    </div>
  );
}

function Step({
  number,
  title,
  done,
  waits = false,
  last = false,
  children,
}: {
  number: number;
  title: string;
  done: boolean;
  waits?: boolean;
  last?: boolean;
  children: React.ReactNode;
}) {
  return (
    <li className="grid grid-cols-[2.25rem_1fr] gap-x-3" aria-label={title}>
      <span className="relative flex justify-center" aria-hidden="true">
        {last ? null : <span className="absolute top-4 -bottom-4 w-[3px] bg-indigo opacity-40" />}
        <span
          className={`relative z-10 mt-3 grid size-7 place-items-center rounded-full border-[3px] text-[13px] font-semibold ${done ? 'border-indigo bg-indigo text-on-indigo' : waits ? 'border-line bg-sheet text-second' : 'border-indigo bg-sheet text-indigo'}`}
        >
          {number}
        </span>
      </span>
      <section className={`card mb-3.5 min-w-0 px-5 py-3.5 ${waits ? 'opacity-70' : ''}`}>
        <h2 className={`text-[15px] font-semibold ${waits ? '' : 'mb-2.5'}`}>{title}</h2>
        {children}
      </section>
    </li>
  );
}

/** Names of variables that the definition leaves to people: `NAME: { secret: true }`, `NAME: { about: … }`. */
function wantedIn(text: string): { name: string; secret: boolean }[] {
  const at = text.indexOf('\n  variables:');
  const part =
    at < 0
      ? ''
      : text.slice(at, text.indexOf('\nenvironments:', at) < 0 ? undefined : text.indexOf('\nenvironments:', at));
  return [...part.matchAll(/^ {4}([A-Za-z_][A-Za-z0-9_]*): \{(?![^}]*\b(?:default|from):)([^}]*)\}/gm)].map((one) => ({
    name: one[1] as string,
    secret: /secret: true/.test(one[2] as string),
  }));
}

function Settings({
  source,
  found,
  text,
  added,
}: {
  source: ReturnType<typeof sourceBody>;
  found: Recognised;
  text: string;
  added: (name: string) => void;
}) {
  const [name, setName] = useState(nameOf(source.url, found.folder));
  const [values, setValues] = useState<Record<string, string>>({});
  const wanted = found.hasDefinition ? [] : wantedIn(text);
  const add = useMutation({
    mutationFn: async () => {
      const body = {
        name,
        source: 'polled',
        ...source,
        mainBranch: found.branch,
        folder: found.folder,
        ...(found.hasDefinition ? {} : { draft: text }),
      };
      const project = await post<AddedProject>('/api/projects', body);
      const set = wanted.flatMap((one) =>
        values[one.name] ? [{ name: one.name, value: values[one.name] as string, secret: one.secret }] : [],
      );
      if (set.length) await post(`${paths.project(project.name)}/variables`, { environment: null, set });
      return project.name;
    },
    onSuccess: added,
  });
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <div className="grid gap-3 md:grid-cols-2">
        <Text
          label="Name of the project"
          value={name}
          set={setName}
          pattern="[a-z][a-z0-9\-]{0,39}"
          title="Lower case letters, digits and dashes, beginning with a letter"
          required
        />
        {wanted.map((one) => (
          <Text
            key={one.name}
            label={one.name}
            type={one.secret ? 'password' : 'text'}
            autoComplete="off"
            value={values[one.name] ?? ''}
            set={(value) => setValues({ ...values, [one.name]: value })}
            hint={one.secret ? 'A secret: never shown again, masked in every log.' : 'Its programs ask for it.'}
          />
        ))}
      </div>
      <p className="text-second">
        <span className="font-semibold text-ink">{name || '…'}</span> takes its commits from{' '}
        <span className="code break-all">{source.url}</span>, branch <span className="code">{found.branch}</span>
        {found.folder ? (
          <>
            , folder <span className="code">{found.folder}</span>
          </>
        ) : null}
        {'credential' in source ? ', with the credential above, kept encrypted' : ''}.{' '}
        {found.hasDefinition
          ? 'Its own definition counts.'
          : 'The definition above counts until the repository has one.'}
      </p>
      <Ahead text={found.own ?? text} project={name} />
      {add.error ? <Trouble error={add.error} /> : null}
      <Button kind="main" type="submit" className="self-start" disabled={add.isPending}>
        {add.isPending ? 'Adding …' : 'Add it and bring it live'}
      </Button>
    </form>
  );
}

const nameOf = (url: string, folder: string): string =>
  (
    folder.split('/').at(-1) ||
    url
      .replace(/\/+$/, '')
      .replace(/\.git$/, '')
      .split(/[/:]/)
      .at(-1) ||
    ''
  )
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^[^a-z]+|-$/g, '')
    .slice(0, 40);

/** How it goes, until somebody can click the address; a failure with what to change. */
function Live({ project }: { project: string }) {
  const own = useQuery({ queryKey: ['project', project], queryFn: () => get<Project>(paths.project(project)) });
  const runs = useQuery({
    queryKey: ['runs', `project=${project}&limit=1`],
    queryFn: () => get<PageOf<Run>>(`/api/runs?project=${project}&limit=1`),
  });
  const environments = useQuery({
    queryKey: ['environments', project],
    queryFn: () => get<PageOf<Environment>>(`${paths.project(project)}/environments`),
  });
  const again = useMutation({ mutationFn: () => post(`${paths.project(project)}/fetch`) });
  const run = runs.data?.items[0];
  const first = environments.data?.items.find((one) => one.branch !== null);
  const failure = first?.failed?.failure && !first.moving ? first.failed.failure : (first?.issue ?? null);
  return (
    <div className="flex flex-col gap-2" role="status">
      <p className="flex items-center gap-2">
        <Mark state={run ? run.state : 'running'} />
        {run ? (
          <Link to="/$project/runs/$number" params={{ project, number: String(run.number) }} className="font-semibold">
            run {run.number}
          </Link>
        ) : (
          'fetching its commits'
        )}
        <span className="text-second">{run ? `${run.state} · ${short(run.commit.id)} ${run.commit.title}` : ''}</span>
      </p>
      {own.data?.issue ? <Said says={own.data.issue.says} next={own.data.issue.next} /> : null}
      {run?.issue && run.state === 'failed' ? <Said says={run.issue.says} next={run.issue.next} /> : null}
      {first ? (
        <p className="flex items-center gap-2">
          <Mark state={first.live && !first.moving ? 'passed' : failure ? 'failed' : 'running'} />
          <Link to="/$project/$environment" params={{ project, environment: first.name }} className="font-semibold">
            {first.name}
          </Link>
          <span className="text-second">
            {first.moving ? first.moving.state : first.live ? 'live' : failure ? 'failed' : 'waits for a release'}
          </span>
        </p>
      ) : null}
      {failure ? <Said says={failure.says} next={failure.next} /> : null}
      {failure || own.data?.issue || run?.state === 'failed' ? (
        <Button className="self-start" disabled={again.isPending} onClick={() => again.mutate()}>
          Fetch the latest push
        </Button>
      ) : null}
      {first?.live ? (
        <p className="mt-1 text-[17px]">
          <a href={first.url} target="_blank" rel="noreferrer" className="font-semibold text-indigo">
            {first.url.replace(/^https?:\/\//, '')}
          </a>
        </p>
      ) : null}
    </div>
  );
}

function Said({ says, next }: { says: string; next: string }) {
  return (
    <div role="alert" className="rounded-md border border-vermilion bg-vermilion-wash px-4 py-2.5">
      <p className="font-semibold text-vermilion">{says}</p>
      <p>{next}</p>
    </div>
  );
}
