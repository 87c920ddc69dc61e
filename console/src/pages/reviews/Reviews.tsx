/** Reviews of all projects, or of one: what each change is, where it can be looked at, what happens next. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useSearch } from '@tanstack/react-router';
import { useState } from 'react';
import { durationText } from '../../../../src/core/durations';
import { moneyText } from '../../../../src/core/cost/cost';
import { shareText } from '../../../../src/core/pictures/pages';
import type { Environment } from '../../../../src/wire/environments/environments';
import type { Review } from '../../../../src/wire/environments/reviews';
import type { PageOf } from '../../../../src/wire/parts';
import { get, paths, post } from '../../data/api';
import { useNow } from '../../data/live';
import type { Search } from '../../data/search';
import { Ago, Button, Empty, Loading, Since, short, Trouble } from '../../parts/basics';
import { Chip, Mark } from '../../parts/Mark';
import { SmallPicture } from './Pictures';
import { useCost } from '../projects/CostCard';
import { Choice, smallFieldLook } from '../../parts/fields';

export function ReviewsPage(): React.ReactNode {
  const { project } = useSearch({ strict: false }) as Search;
  const list = useQuery({ queryKey: ['reviews'], queryFn: () => get<PageOf<Review>>('/api/reviews') });
  const cost = useCost(project ?? null);
  if (list.error && !list.data) return <Trouble error={list.error} />;
  if (!list.data) return <Loading />;
  const all = list.data.items;
  const shown = all.filter((one) => !project || one.project === project);
  const projects = [...new Set(shown.map((one) => one.project))];
  const count = (fits: (one: Review) => boolean) => shown.filter(fits).length;
  const awake = count((one) => one.environment?.state === 'live' || one.environment?.state === 'waking');
  const asleep = count((one) => one.environment?.state === 'asleep' || one.environment?.state === 'falling asleep');
  const waiting = count((one) => one.allow !== null);
  const names = new Set(shown.map((one) => `${one.project}/${one.name}`));
  const { prices = null, items = [] } = cost.data ?? {};
  const sums = new Map(items.map((one) => [`${one.project}/${one.environment}`, one.soFar ?? 0]));
  const total = [...sums].reduce((sum, [name, amount]) => sum + (names.has(name) ? amount : 0), 0);
  const saved = items.reduce((sum, one) => sum + (!project || one.project === project ? (one.asleep ?? 0) : 0), 0);
  const moneyOf = (one: Review): string | null => {
    const amount = sums.get(`${one.project}/${one.name}`) ?? 0;
    return prices && amount > 0 ? moneyText(amount, prices.currency) : null;
  };
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="title">Reviews</h1>
        <Chip tone={awake ? 'good' : ''}>{awake} awake</Chip>
        <Chip tone="">{asleep} asleep</Chip>
        {waiting ? <Chip tone="waits">{waiting === 1 ? '1 waits' : `${waiting} wait`} to be allowed</Chip> : null}
        {prices && total > 0 ? (
          <span className="text-second">
            {moneyText(total, prices.currency)} this month, all of them together
            {saved > 0 ? ` · sleeping saved ${moneyText(saved, prices.currency)}` : ''}
          </span>
        ) : null}
        <span className="ml-auto">
          <OpenOne project={project ?? null} />
        </span>
      </div>
      {shown.length === 0 ? (
        <Empty title="No review is open.">
          A pull request opens one, where the main branch declares <span className="code">for: pull requests</span>; or
          open one for a branch.
        </Empty>
      ) : null}
      {projects.map((name) => (
        <section key={name} className="mb-5" aria-label={name}>
          <h2 className="mb-2 font-semibold">
            <Link to="/$project" params={{ project: name }} className="no-underline hover:underline">
              {name}
            </Link>
          </h2>
          <ul className="card divide-y divide-line px-5">
            {shown
              .filter((one) => one.project === name)
              .map((one) => (
                <ReviewRow key={one.name} one={one} money={moneyOf(one)} />
              ))}
          </ul>
        </section>
      ))}
    </>
  );
}

/** The words for how it is, and for what is next. */
const toneOf = ({ state, health }: Environment): string =>
  state === 'live' ? health : state === 'waking' || state === 'falling asleep' ? 'running' : '';
const wordOf = ({ state, health, live }: Environment): string =>
  state === 'live' ? (health === 'good' ? 'awake' : health) : state === 'empty' && !live ? 'nothing yet' : state;

function ReviewRow({ one, money }: { one: Review; money: string | null }) {
  const { environment, run, tests, pullRequest } = one;
  const failed = run?.state === 'failed';
  const behind = Boolean(environment?.live && run && run.commit.id !== environment.live.commit.id);
  return (
    <li className="flex flex-wrap items-start gap-x-4 gap-y-2 py-3.5">
      {environment?.picture?.small ? (
        <Link to="/$project/$environment" params={{ project: one.project, environment: one.name }} tabIndex={-1}>
          <SmallPicture small={environment.picture.small} of={one.name} />
        </Link>
      ) : null}
      <div className="min-w-64 flex-1">
        <p className="flex flex-wrap items-baseline gap-x-2">
          {environment ? (
            <Link
              data-row
              to="/$project/$environment"
              params={{ project: one.project, environment: one.name }}
              className="font-semibold no-underline hover:underline"
            >
              {one.name}
            </Link>
          ) : (
            <span className="font-semibold">{one.name}</span>
          )}
          <span className="min-w-0 font-semibold break-words">{pullRequest?.title ?? `branch ${one.branch}`}</span>
          <span className="text-second">
            {run ? run.commit.author : ''}
            {pullRequest ? ` · into ${pullRequest.base}` : ''}
            {pullRequest && !pullRequest.trusted ? ' · from outside' : ''}
            {pullRequest?.draft ? ' · draft' : ''}
          </span>
        </p>
        <p className="text-second">
          <Sentence one={one} behind={behind} />
          {environment?.picture && environment.picture.share !== null && !behind ? (
            <>
              {' '}
              <span className={environment.picture.share > 0 ? 'font-semibold text-ink' : ''}>
                {environment.picture.share > 0
                  ? `What one sees differs by ${shareText(environment.picture.share)}.`
                  : `It looks the same as before.`}
              </span>
            </>
          ) : null}
        </p>
        <p className="mt-1 flex flex-wrap items-center gap-2">
          {environment ? <Chip tone={toneOf(environment)}>{wordOf(environment)}</Chip> : null}
          {environment?.live && behind ? <Chip tone="running">shows {short(environment.live.commit.id)}</Chip> : null}
          {run ? (
            <Link
              to="/$project/runs/$number"
              params={{ project: one.project, number: String(run.number) }}
              className="flex items-center gap-1.5 no-underline hover:underline"
            >
              <Mark state={run.state} />
              <span className="text-second">run {run.number}</span>
            </Link>
          ) : null}
          {tests ? (
            <Chip tone={tests.failed ? 'failed' : 'good'}>
              {tests.failed
                ? `${tests.failed} ${tests.failed === 1 ? 'test' : 'tests'} failed${tests.failing ? `: ${tests.failing.slice(0, 80)}` : ''}`
                : `${tests.passed} ${tests.passed === 1 ? 'test' : 'tests'} passed`}
            </Chip>
          ) : failed ? (
            <Chip tone="failed">the newest commit failed</Chip>
          ) : null}
          {one.data.map(({ name, copy, of }) => (
            <span key={name} className="text-second">
              {of ? (
                <>
                  data of {copy}, <Ago at={of} />
                </>
              ) : (
                'empty data'
              )}
            </span>
          ))}
        </p>
      </div>
      <div className="flex flex-col items-start gap-1.5 sm:items-end">
        {one.allow ? (
          <Allow one={one} commit={one.allow} />
        ) : environment?.live ? (
          <a
            href={environment.url}
            target="_blank"
            rel="noreferrer"
            className={`rounded-md border px-3.5 py-1.5 font-semibold no-underline ${environment.state === 'live' ? 'border-indigo bg-indigo text-on-indigo' : 'border-line bg-sheet hover:bg-faint'}`}
          >
            Open
            <span className="sr-only"> {one.name}</span>
          </a>
        ) : null}
        {environment ? <Next environment={environment} money={money} /> : null}
      </div>
    </li>
  );
}

/** What somebody who is no programmer wants to know first. */
function Sentence({ one, behind }: { one: Review; behind: boolean }) {
  const { environment, run, pullRequest } = one;
  if (one.allow)
    return 'Nothing of it has run. Whoever has looked at this commit may allow it: it runs without secrets, data or network.';
  if (!environment)
    return pullRequest?.draft
      ? 'A draft: it gets a review when it is none any more.'
      : pullRequest?.trusted === false
        ? 'From outside: its runs are allowed one by one.'
        : 'It has no review.';
  if (environment.review?.wakeIssue) return `It could not be woken: ${environment.review.wakeIssue.says}`;
  if (environment.issue) return environment.issue.says;
  if (environment.moving) return `r${environment.moving.release} is on its way: ${environment.moving.state}.`;
  if (!environment.live)
    return run?.state === 'failed'
      ? 'Its newest commit fails, so nothing is to be seen yet.'
      : 'It is live as soon as its run has passed.';
  if (behind && run?.state === 'failed') return 'The newest commit fails; the address shows the one before.';
  if (behind) return 'A newer commit is on its way; the address shows the one before.';
  return environment.state === 'asleep' ? (
    <>
      <Since at={environment.review?.since ?? null} what="Asleep for" />; a visit wakes it in a moment.
    </>
  ) : // The title of the pull request stands above already.
  environment.live.commit.title === pullRequest?.title ? (
    'Live with its newest commit.'
  ) : (
    environment.live.commit.title
  );
}

function Next({ environment, money }: { environment: Environment; money: string | null }) {
  const now = useNow(5_000);
  const { review, state } = environment;
  if (!review || state === 'closing') return null;
  const ahead = (time: string | null) =>
    time === null ? null : durationText(Math.max(1_000, Math.round((Date.parse(time) - now) / 1_000) * 1_000));
  const [sleeps, closes] = [ahead(review.sleepsAt), ahead(review.closesAt)];
  const words = [
    ...(money ? [`${money} this month`] : []),
    ...(sleeps ? [`sleeps in ${sleeps}`] : []),
    ...(closes ? [`closes in ${closes}`] : []),
  ];
  return <span className="text-[13px] text-second">{words.join(' · ')}</span>;
}

function Allow({ one, commit }: { one: Review; commit: string }) {
  const client = useQueryClient();
  const allow = useMutation({
    mutationFn: () => post(`${paths.project(one.project)}/commits/${commit}/allow`),
    onSuccess: () => client.invalidateQueries({ queryKey: ['reviews'] }),
  });
  return (
    <>
      <Button kind="main" disabled={allow.isPending} onClick={() => allow.mutate()}>
        Allow {short(commit)}
      </Button>
      {allow.error ? <Trouble error={allow.error} /> : null}
    </>
  );
}

/** A field for the name of a branch: pull requests open theirs by themselves. */
function OpenOne({ project }: { project: string | null }) {
  const [open, setOpen] = useState(false);
  const [branch, setBranch] = useState('');
  const [of, setOf] = useState(project ?? '');
  const projects = useQuery({
    queryKey: ['projects'],
    queryFn: () => get<PageOf<{ name: string }>>('/api/projects'),
    enabled: open,
  });
  const names = projects.data?.items.map((one) => one.name) ?? [];
  const chosen = of || names[0] || '';
  const client = useQueryClient();
  const make = useMutation({
    mutationFn: () => post<Environment>(`${paths.project(chosen)}/reviews`, { branch }),
    onSuccess: () => {
      setOpen(false);
      setBranch('');
      return client.invalidateQueries({ queryKey: ['reviews'] });
    },
  });
  if (!open) return <Button onClick={() => setOpen(true)}>Open one for a branch</Button>;
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        make.mutate();
      }}
    >
      {names.length > 1 ? (
        <Choice
          label="Project"
          value={chosen}
          set={setOf}
          options={names.map((name) => ({ value: name, text: name }))}
        />
      ) : null}
      <input
        aria-label="Branch"
        placeholder="branch"
        className={`code ${smallFieldLook}`}
        value={branch}
        onChange={(event) => setBranch(event.target.value)}
        required
        maxLength={250}
      />
      <Button kind="main" type="submit" disabled={make.isPending || branch === '' || chosen === ''}>
        Open it
      </Button>
      <Button onClick={() => setOpen(false)}>Leave it</Button>
      {make.error ? <Trouble error={make.error} /> : null}
    </form>
  );
}
