/** How a review sleeps and closes, and what somebody can do about it. */
import { useMutation } from '@tanstack/react-query';
import { durationText } from '../../../../src/core/durations';
import type { EnvironmentDetail } from '../../../../src/wire/environments/environments';
import type { MadeLink } from '../../../../src/wire/environments/reviews';
import { paths, post } from '../../data/api';
import { useNow } from '../../data/live';
import { Button, Since, Trouble } from '../../parts/basics';
import { Ask } from '../../parts/Ask';
import { DataOf } from '../environments/Copies';

const threeDays = 3 * 86_400_000;

/** What goes with its data, in words. */
const dataOf = ({ resources }: EnvironmentDetail): string =>
  resources.length
    ? `Its programs and all data in ${resources.map(({ name }) => name).join(', ')} are`
    : 'Its programs are';

type Life = NonNullable<EnvironmentDetail['review']>;

export function ReviewCard({ one, review }: { one: EnvironmentDetail; review: Life }) {
  const path = paths.environment(one.project, one.name);
  const act = useMutation({
    mutationFn: ({ to, body }: { to: string; body?: unknown }) => post(`${path}/${to}`, body),
  });
  const link = useMutation({ mutationFn: () => post<MadeLink>(`${path}/links`, { ms: threeDays }) });
  const open = one.state !== 'closing' && one.state !== 'closed';
  const asleep = one.state === 'asleep' || one.state === 'falling asleep';
  return (
    <section className="card mb-3.5 px-5 py-3.5" aria-label="Sleep and close">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <p className="min-w-0 flex-1 basis-72">
          <span className="font-semibold">{one.pullRequest?.title ?? `Branch ${review.branch}`}</span>{' '}
          <span className="text-second">
            <Words one={one} review={review} />
          </span>
        </p>
        {open ? (
          <span className="flex flex-wrap gap-2">
            {one.live && asleep ? (
              <Button
                size="small"
                needs="developer"
                disabled={act.isPending}
                onClick={() => act.mutate({ to: 'wake' })}
              >
                Wake
              </Button>
            ) : null}
            {one.live && one.state === 'live' ? (
              <Button
                size="small"
                needs="developer"
                disabled={act.isPending}
                onClick={() => act.mutate({ to: 'sleep' })}
                title="Its programs are suspended until the next visit to its address."
              >
                Put to sleep
              </Button>
            ) : null}
            <Button
              size="small"
              needs="developer"
              disabled={act.isPending}
              onClick={() => act.mutate({ to: 'keep', body: { ms: threeDays } })}
            >
              Extend by 3 days
            </Button>
            {review.access === 'link' ? (
              <Button
                size="small"
                disabled={link.isPending}
                onClick={() => link.mutate()}
                needs="developer"
                title="Anyone with the link may look, for three days."
              >
                Make a link
              </Button>
            ) : null}
            <Ask
              label="Reset data"
              title={`Reset ${one.project}/${one.name}`}
              says={`${dataOf(one)} deleted. The review is made from scratch and takes its newest release.`}
              confirm="Reset data"
              kind="danger"
              size="small"
              needs="developer"
              busy={act.isPending}
              act={() => act.mutate({ to: 'reset' })}
            />
            <Ask
              label="Close"
              title={`Close ${one.project}/${one.name}`}
              says={`${dataOf(one)} deleted, with its address. Its runs and logs stay. ${again(one)}`}
              confirm="Close the review"
              kind="danger"
              size="small"
              needs="developer"
              busy={act.isPending}
              act={() => act.mutate({ to: 'close' })}
            />
          </span>
        ) : null}
      </div>
      {review.wakeIssue ? (
        <p className="mt-1 text-vermilion">
          It could not be woken: {review.wakeIssue.says} <span className="text-second">{review.wakeIssue.next}</span>
        </p>
      ) : null}
      {one.resources.map(({ name, origin }) => (
        <DataOf key={name} name={name} origin={origin} />
      ))}
      {review.outside ? (
        <p className="mt-1 text-second">
          From outside: it has stand-ins for secrets, data of its own, no network, and less of everything. Each commit
          is shown when somebody has allowed it.
        </p>
      ) : null}
      {review.access === 'open' ? null : (
        <p className="mt-1 text-second">
          {review.access === 'link'
            ? 'People who are signed in may look, and anyone with a link.'
            : 'People who are signed in may look.'}
        </p>
      )}
      {link.data ? (
        <div className="mt-2 rounded-md border border-indigo bg-indigo-wash px-3 py-2">
          <p>Anyone with this link may look, for three days. It is shown once:</p>
          <p className="code my-1 break-all select-all">{link.data.url}</p>
          <Button size="tiny" onClick={() => void navigator.clipboard.writeText(link.data.url)}>
            Copy
          </Button>
        </div>
      ) : null}
      {link.error ? <Trouble error={link.error} /> : null}
      {act.error ? <Trouble error={act.error} /> : null}
    </section>
  );
}

const again = (one: EnvironmentDetail): string =>
  one.pullRequest ? 'A push opens it again.' : 'The page of reviews opens it again.';

function Words({ one, review }: { one: EnvironmentDetail; review: Life }) {
  const now = useNow(5_000);
  const ahead = (time: string) => durationText(Math.max(1_000, Math.round((Date.parse(time) - now) / 1_000) * 1_000));
  const closes = review.closesAt ? `; closes in ${ahead(review.closesAt)} if nobody uses it` : '';
  if (one.state === 'closing') return 'is going away.';
  if (one.state === 'closed')
    return `is closed: its programs, its data and its address are gone, looked for and not found; its runs, logs and pictures stay. ${again(one)}`;
  if (one.state === 'asleep')
    return (
      <>
        <Since at={review.since} what="has slept for" />
        {review.depth === 'ended' ? ', its programs have ended' : ', its programs stand still'}; a visit wakes it
        {closes}.
      </>
    );
  if (one.state === 'live' && review.sleepsAt) return `is awake; sleeps in ${ahead(review.sleepsAt)}${closes}.`;
  return `is ${one.state === 'live' ? 'awake' : one.state}${closes}.`;
}
