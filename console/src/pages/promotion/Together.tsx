/** With which other projects it goes, at one moment or not at all; and what has become of those that went. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useNavigate } from '@tanstack/react-router';
import { useState } from 'react';
import { atLeast, jointMoving } from '../../../../src/core/states';
import type { Together } from '../../../../src/wire/environments/together';
import type { Board } from '../../../../src/wire/overview';
import type { Me } from '../../../../src/wire/people';
import type { Promotion } from '../../../../src/wire/releases';
import { get, post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { Check, Fold } from '../../parts/fields';

/** Others that have something for an environment of the same name. */
export function PromoteTogether({ one }: { one: Promotion }) {
  const { project, environment, release } = one;
  const [chosen, setChosen] = useState<readonly string[]>([]);
  const navigate = useNavigate();
  const board = useQuery({ queryKey: ['board'], queryFn: () => get<Board>('/api/board') });
  const act = useMutation({
    mutationFn: () =>
      post<Together>('/api/joint-promotions', {
        environment,
        projects: [{ project, release: release.number }, ...chosen.map((name) => ({ project: name }))],
      }),
    onSuccess: () => navigate({ to: '/$project/$environment', params: { project, environment } }),
  });
  const others = (board.data?.projects ?? []).flatMap(({ name, environments }) => {
    const own = environments.find((each) => each.name === environment);
    return name !== project && own?.waits ? [{ name, ...own.waits }] : [];
  });
  if (others.length === 0) return null;
  return (
    <section className="card mb-3.5 px-5 py-3" aria-label="Together with other projects">
      <Fold title="Together with other projects">
        <p className="mt-1 text-second">
          All come up beside what is live; when the last one is ready the traffic of all moves at one moment. If one
          can’t go, none goes. Copies of requests and shares are left out; bounds count.
        </p>
        <div className="my-2 flex flex-col gap-1.5">
          {others.map(({ name, release: number, allowed, why }) => (
            <span key={name} className="flex flex-wrap items-center gap-x-3">
              <Check
                label={`${name} r${number}`}
                checked={chosen.includes(name)}
                set={(on) => setChosen(on ? [...chosen, name] : chosen.filter((each) => each !== name))}
              />
              {allowed ? null : <span className="text-ochre">{why}</span>}
            </span>
          ))}
        </div>
        {act.error ? <Trouble error={act.error} /> : null}
        <Button
          size="small"
          disabled={chosen.length === 0 || act.isPending || !one.allowed}
          onClick={() => act.mutate()}
        >
          Promote {chosen.length + 1} together
        </Button>
      </Fold>
    </section>
  );
}

/** Of a deployment that goes, or went, with others. */
export function WithOthers({ number, project }: { number: number; project: string }) {
  const client = useQueryClient();
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const page = useQuery({
    queryKey: ['together', String(number)],
    queryFn: () => get<Together>(`/api/joint-promotions/${number}`),
    // Of the others no event of this project tells.
    refetchInterval: ({ state }) => (state.data && jointMoving(state.data.state) ? 1_000 : 15_000),
  });
  const back = useMutation({
    mutationFn: () => post<Together>(`/api/joint-promotions/${number}/back`),
    onSuccess: (now) => client.setQueryData(['together', String(number)], now),
  });
  const one = page.data;
  if (!one) return null;
  const may = me.data?.role && atLeast(me.data.role, 'releaser');
  const open = one.back === null && (jointMoving(one.state) || one.state === 'live');
  return (
    <div className="mt-1 flex flex-wrap items-center gap-x-3 gap-y-1">
      <span className="text-second">
        j{one.number}: {one.sentence}{' '}
        {one.members
          .filter((each) => each.project !== project)
          .map((each) => (
            <Link
              key={each.project}
              to="/$project/$environment"
              params={{ project: each.project, environment: one.environment }}
              className="mr-2 text-indigo underline"
            >
              {each.project} r{each.release}
            </Link>
          ))}
      </span>
      {may && open ? (
        <Button size="tiny" kind="danger" disabled={back.isPending} onClick={() => back.mutate()}>
          Take all of them back
        </Button>
      ) : null}
      {back.error ? <Trouble error={back.error} /> : null}
    </div>
  );
}
