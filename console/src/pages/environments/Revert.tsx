/** Going back: what it does and what it can't undo is said before. */
import { useMutation, useQuery } from '@tanstack/react-query';
import { Dialog } from 'radix-ui';
import { useState } from 'react';
import type { Deployment, RevertAhead, RevertCandidate } from '../../../../src/wire/environments/environments';
import { get, paths, post } from '../../data/api';
import { Ago, Button, Trouble } from '../../parts/basics';
import { Check, Text } from '../../parts/fields';

export function Revert({
  project,
  environment,
  release: nearest,
  leaves,
  hint,
}: {
  project: string;
  environment: string;
  /** The release one step back. */
  release: number;
  /** Number of the deployment that is left. */
  leaves: number;
  hint: string;
}) {
  const [open, setOpen] = useState(false);
  const [chosen, choose] = useState<number | null>(null);
  const [why, setWhy] = useState('');
  const release = chosen ?? nearest;
  const [oneWay, setOneWay] = useState(false);
  const [now, setNow] = useState(false);
  const path = paths.environment(project, environment);
  const ahead = useQuery({
    queryKey: ['environment', project, environment, 'revert', release],
    queryFn: () => get<RevertAhead>(`${path}/revert?release=${release}`),
    enabled: open,
  });
  const act = useMutation({
    mutationFn: () =>
      post<Deployment>(`${path}/deployments`, {
        kind: 'revert',
        release,
        leaves,
        ...(why.trim() ? { why: why.trim() } : {}),
        ...(now ? { variables: 'now' } : {}),
        ...(oneWay ? { oneWay: true } : {}),
      }),
    onSuccess: () => setOpen(false),
  });
  const one = ahead.data;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button title={hint}>Revert to r{nearest}</Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/30" />
        <Dialog.Content className="card fixed top-24 left-1/2 z-50 max-h-[75vh] w-[min(36rem,calc(100vw-2rem))] -translate-x-1/2 overflow-y-auto px-6 py-5 text-left">
          <Dialog.Title className="mb-2 text-[17px] font-semibold">
            {environment} back to r{release}
          </Dialog.Title>
          <Dialog.Description className="mb-3 text-second">
            {!one
              ? 'Looking at what that does …'
              : one.keeps
                ? 'What serves goes on; what is on its way is ended.'
                : one.warm
                  ? 'Its servers are warm and take the traffic at once.'
                  : 'Its servers are started, then take the traffic.'}{' '}
            Then {environment} is on hold.
          </Dialog.Description>
          {ahead.error ? <Trouble error={ahead.error} /> : null}
          {act.error ? <Trouble error={act.error} /> : null}
          {one && one.candidates.length > 1 ? (
            <Candidates all={one.candidates} chosen={one.then} choose={(to) => choose(to.release)} />
          ) : null}
          {one && !one.keeps ? <Undone one={one} /> : null}
          {one?.variables.length ? (
            <section className="mb-3">
              <h3 className="font-semibold">Plain variables that are others by now</h3>
              <ul className="mb-1">
                {one.variables.map(({ name, then, now: value }) => (
                  <li key={name}>
                    <span className="code">{name}</span> {then ?? 'none'}{' '}
                    <span className="text-second">· now {value ?? 'none'}</span>
                  </li>
                ))}
              </ul>
              <Check label="Keep those of now" checked={now} set={setNow} />
            </section>
          ) : null}
          {one?.oneWay.length ? (
            <div className="mb-3">
              <Check label="It can go back beyond what is one-way" checked={oneWay} set={setOneWay} />
            </div>
          ) : null}
          <div className="mb-4">
            <Text
              label="Why"
              hint="Shown with the hold, and in the record of who did what."
              value={why}
              set={setWhy}
              maxLength={300}
            />
          </div>
          <div className="flex justify-end gap-2">
            <Dialog.Close asChild>
              <Button>Cancel</Button>
            </Dialog.Close>
            <Button
              kind="danger"
              disabled={!one || act.isPending || (one.oneWay.length > 0 && !oneWay)}
              onClick={() => act.mutate()}
            >
              Go back to r{release}
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** The way that the environment came, the nearest step first; a release that was live twice is gone back to at its nearest step. */
function Candidates({
  all,
  chosen,
  choose,
}: {
  all: readonly RevertCandidate[];
  /** Number of the deployment. */
  chosen: number;
  choose: (to: RevertCandidate) => void;
}) {
  const steps = all.filter((one, at) => all.findIndex(({ release }) => release === one.release) === at).slice(0, 5);
  return (
    <fieldset className="mb-3">
      <legend className="font-semibold">What was live before</legend>
      {steps.map((one) => (
        <label key={one.deployment} className="flex items-baseline gap-2 py-1">
          <input
            type="radio"
            name="candidate"
            checked={one.deployment === chosen}
            onChange={() => choose(one)}
            className="accent-indigo"
          />
          <span className="code font-semibold">r{one.release}</span>
          <span className="min-w-0 flex-1 truncate">{one.commit.title}</span>
          <span className="whitespace-nowrap text-second">
            live <Ago at={one.liveAt} />
            {one.warm ? ' · warm' : ''}
          </span>
        </label>
      ))}
    </fieldset>
  );
}

function Undone({ one }: { one: RevertAhead }) {
  return (
    <section className="mb-3">
      <h3 className="font-semibold">What it does not undo</h3>
      <ul>
        {one.writtenSince ? (
          <li>
            data that was written since r{one.live} went live, <Ago at={one.writtenSince} />
          </li>
        ) : null}
        {one.migrations.map((path) => (
          <li key={path}>
            <span className="code">{path}</span>{' '}
            {one.oneWay.includes(path) ? <span className="text-vermilion">one-way</span> : null}
          </li>
        ))}
        {one.unused.map((name) => (
          <li key={name}>{name}, which stays and is used by nothing then</li>
        ))}
        {one.anew.map((name) => (
          <li key={name}>{name} was removed since: it is made again, empty</li>
        ))}
        {one.secrets.length ? <li>secrets: {one.secrets.join(', ')} are those of now</li> : null}
      </ul>
    </section>
  );
}
