/** Copies of data: whether an environment's may be copied for reviews, which copies there are, and what a review began with. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { bytesText } from '../../../../src/core/sizes';
import type { EnvironmentDetail } from '../../../../src/wire/environments/environments';
import type { Resource, ResourceDetail } from '../../../../src/wire/environments/resources';
import type { Me } from '../../../../src/wire/people';
import { get, paths, post } from '../../data/api';
import { Ago, Button, Trouble } from '../../parts/basics';
import { Chip } from '../../parts/Mark';

/** Nothing where main says nothing of copies. */
export function CopiesCard({ project, environment }: { project: string; environment: string }) {
  const path = paths.environment(project, environment);
  const client = useQueryClient();
  const key = ['environment', project, environment];
  const detail = useQuery({ queryKey: key, queryFn: () => get<EnvironmentDetail>(path) });
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const act = useMutation({
    mutationFn: (permit: boolean) => post(`${path}/copies`, { permit }),
    onSettled: () => client.invalidateQueries({ queryKey: key }),
  });
  const copies = detail.data?.copies;
  if (!copies?.scrub) return null;
  return (
    <section className="card px-5 py-3.5" aria-label="Copies for reviews">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <p className="min-w-0 flex-1 basis-72">
          {copies.permitted ? 'Reviews may begin with copies of this data.' : 'Reviews begin without this data.'}{' '}
          <span className="text-second">
            Before anybody sees a copy, this makes it fit for others, with the files of {copies.scrub.part}:{' '}
            <code className="code break-all">{copies.scrub.run}</code>
          </span>
        </p>
        {me.data?.role === 'owner' ? (
          <Button
            size="small"
            disabled={act.isPending}
            onClick={() => act.mutate(!copies.permitted)}
            title={
              copies.permitted
                ? 'The copies are removed; what reviews have by now stays.'
                : 'With just this command: another one has to be permitted anew.'
            }
          >
            {copies.permitted ? 'Permit no more copies' : 'Permit copies'}
          </Button>
        ) : null}
      </div>
      {act.error ? <Trouble error={act.error} /> : null}
    </section>
  );
}

type Began = Resource['origin'];

function Words({ origin }: { origin: NonNullable<Began> }) {
  if (origin.of)
    return (
      <>
        a copy of {origin.copy}’s, as that was <Ago at={origin.of} />
        {origin.why ? `; there is no newer one: ${origin.why.says}` : ''}
      </>
    );
  if (origin.why) return <>empty</>;
  return <>waits for a copy of {origin.copy}’s: it is copied, and made fit for others first</>;
}

/** What a resource began with, in its own card. */
export function Origin({ of: origin }: { of: Began }) {
  if (!origin) return null;
  return (
    <p className="border-b border-faint px-5 py-2">
      Its data: <Words origin={origin} />.{' '}
      {origin.why && !origin.of ? (
        <>
          <span className="text-ochre">{origin.why.says}</span> <span className="text-second">{origin.why.next}</span>
        </>
      ) : null}
    </p>
  );
}

/** The same on the card of a review, in one sentence. */
export function DataOf({ name, origin }: { name: string; origin: Began }) {
  if (!origin) return null;
  return (
    <p className="mt-1">
      <span className="text-second">Data of {name}:</span> <Words origin={origin} />.
      {origin.why && !origin.of ? <span className="text-ochre"> {origin.why.says}</span> : null}
    </p>
  );
}

const toneOf = (state: string): string =>
  state === 'ready' ? 'good' : state === 'failed' ? 'failed' : state === 'removing' ? '' : 'running';

/** Copies that reviews are made of, the newest first. */
export function Snapshots({ one, may, copy }: { one: ResourceDetail; may: boolean; copy: () => void }) {
  return (
    <div className="border-t border-faint px-5 py-3">
      <div className="mb-1 flex items-center gap-2">
        <h3 className="font-semibold">Copies for reviews</h3>
        {may ? (
          <Button size="tiny" className="ml-auto" onClick={copy} title="The next reviews begin with it.">
            Copy it now
          </Button>
        ) : null}
      </div>
      {one.snapshots.map((item) => (
        <div
          key={item.id}
          className="flex flex-wrap items-baseline gap-x-2.5 border-b border-faint py-1.5 last:border-0"
        >
          <Chip tone={toneOf(item.state)}>{item.state}</Chip>
          <span>
            of <Ago at={item.of ?? item.createdAt} />
          </span>
          <span className="text-second">
            {item.bytes === null ? '' : `${bytesText(item.bytes)} · `}
            {item.scrub ? `made fit by ${item.scrub.deployment} · ` : ''}
            {item.reviews === 1 ? '1 review' : `${item.reviews} reviews`}
          </span>
          {may && item.scrub?.attempt ? (
            <a href={`/api/attempts/${item.scrub.attempt}/log/text`} className="text-second">
              log
            </a>
          ) : null}
          {item.issue ? (
            <span className="w-full">
              <span className="text-vermilion">{item.issue.says}</span>{' '}
              <span className="text-second">{item.issue.next}</span>
            </span>
          ) : null}
        </div>
      ))}
    </div>
  );
}
