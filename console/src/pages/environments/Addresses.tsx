/** The names under which an environment is reached: how far each is, what is missing, and who certifies it. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { durationText } from '../../../../src/core/durations';
import { atLeast } from '../../../../src/core/states';
import type { Address } from '../../../../src/wire/environments/addresses';
import type { PageOf } from '../../../../src/wire/parts';
import type { Me } from '../../../../src/wire/people';
import { get, paths, post, remove } from '../../data/api';
import { Button, Loading, Trouble } from '../../parts/basics';
import { Text } from '../../parts/fields';
import { Chip } from '../../parts/Mark';

const tones = { wanted: 'running', proven: 'plain', certified: 'good', failed: 'failed' } as const;

export function Addresses({ project, environment }: { project: string; environment: string }) {
  const path = `${paths.environment(project, environment)}/addresses`;
  const client = useQueryClient();
  const key = ['addresses', project, environment];
  const all = useQuery({ queryKey: key, queryFn: () => get<PageOf<Address>>(path) });
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const may = me.data?.role ? atLeast(me.data.role, 'releaser') : false;
  const [name, setName] = useState('');
  const add = useMutation({
    mutationFn: () => post<Address>(path, { host: name }),
    onSuccess: () => setName(''),
    onSettled: () => client.invalidateQueries({ queryKey: key }),
  });
  if (all.error && !all.data) return <Trouble error={all.error} />;
  if (!all.data) return <Loading />;
  return (
    <section className="card overflow-x-auto" aria-label="Addresses">
      {all.data.items.map((one) => (
        <One
          key={one.host}
          path={path}
          one={one}
          may={may}
          changed={() => client.invalidateQueries({ queryKey: key })}
        />
      ))}
      {may ? (
        <form
          className="flex flex-wrap items-end gap-3 px-5 py-3.5"
          onSubmit={(event) => {
            event.preventDefault();
            add.mutate();
          }}
        >
          <div className="w-80">
            <Text label="A name of your own" value={name} set={setName} placeholder="departures.kohama.example" />
          </div>
          <Button type="submit" disabled={add.isPending || name.trim() === ''}>
            {add.isPending ? 'Looking …' : 'Add it'}
          </Button>
          {add.error ? <Trouble error={add.error} /> : null}
        </form>
      ) : null}
    </section>
  );
}

function One({ path, one, may, changed }: { path: string; one: Address; may: boolean; changed: () => void }) {
  const [sure, setSure] = useState(false);
  const [label, setLabel] = useState<string | null>(null);
  const at = `${path}/${encodeURIComponent(one.host)}`;
  const act = useMutation({ mutationFn: (work: () => Promise<unknown>) => work(), onSettled: changed });
  return (
    <div className="border-b border-faint px-5 py-3.5">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1.5">
        <a href={one.url} target="_blank" rel="noreferrer" className="font-semibold break-all text-indigo">
          {one.url.replace(/^https?:\/\//, '')}
        </a>
        {one.unicode ? <span className="text-second">{one.unicode}</span> : null}
        <Chip tone={tones[one.state]}>{one.state}</Chip>
        {one.main ? <Chip tone="plain">main</Chip> : null}
        <span className="text-second">{about(one)}</span>
        {may ? (
          <span className="ml-auto flex gap-2">
            {one.state === 'certified' && !one.issue ? null : (
              <Button
                size="compact"
                disabled={act.isPending}
                onClick={() => act.mutate(() => post(`${at}/check`))}
                title="It is looked for by itself as well."
              >
                Look now
              </Button>
            )}
            {one.current && label === null ? (
              <Button size="compact" onClick={() => setLabel(one.host.split('.')[0] ?? '')}>
                Rename
              </Button>
            ) : null}
            {one.declared || one.current ? null : sure ? (
              <>
                <Button
                  size="compact"
                  kind="danger"
                  disabled={act.isPending}
                  onClick={() => act.mutate(() => remove(at, {}))}
                >
                  Remove {one.host}
                </Button>
                <Button size="compact" onClick={() => setSure(false)}>
                  Cancel
                </Button>
              </>
            ) : (
              <Button size="compact" onClick={() => setSure(true)}>
                Remove
              </Button>
            )}
          </span>
        ) : null}
      </div>
      {label === null ? null : (
        <form
          className="mt-2.5 flex flex-wrap items-end gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            act.mutate(() => post(`${path}/rename`, { label }).then(() => setLabel(null)));
          }}
        >
          <div className="w-64">
            <Text label="Its first label" value={label} set={setLabel} />
          </div>
          <Button type="submit" disabled={act.isPending}>
            Rename it
          </Button>
          <Button onClick={() => setLabel(null)}>Cancel</Button>
          <p className="basis-full text-second">The name before leads there too, until you remove it.</p>
        </form>
      )}
      {one.issue ? (
        <p className="mt-1.5">
          <span className={one.state === 'failed' ? 'text-vermilion' : 'text-ochre'}>{one.issue.says}</span>{' '}
          <span className="text-second">{one.issue.next}</span>
        </p>
      ) : null}
      {one.proof && (one.state === 'wanted' || one.state === 'failed') ? <Proof proof={one.proof} /> : null}
      {act.error ? <Trouble error={act.error} /> : null}
    </div>
  );
}

/** The record to set, to be copied as it is. */
function Proof({ proof }: { proof: NonNullable<Address['proof']> }) {
  return (
    <dl className="mt-2 grid w-fit grid-cols-[auto_1fr_auto] items-center gap-x-4 gap-y-1 rounded-md border border-line px-3.5 py-2">
      <dt className="text-second">Record</dt>
      <dd className="code break-all">{proof.record} TXT</dd>
      <dd>
        <Copy text={proof.record} what="the record’s name" />
      </dd>
      <dt className="text-second">Value</dt>
      <dd className="code break-all">{proof.value}</dd>
      <dd>
        <Copy text={proof.value} what="the value" />
      </dd>
    </dl>
  );
}

function Copy({ text, what }: { text: string; what: string }) {
  return (
    <Button size="tiny" aria-label={`Copy ${what}`} onClick={() => void navigator.clipboard.writeText(text)}>
      Copy
    </Button>
  );
}

function about({ kind, declared, certificate }: Address): string {
  const from = kind === 'given' ? 'given by the service' : declared ? 'from the definition' : '';
  if (!certificate) return from;
  const left = Date.parse(certificate.until) - Date.now();
  const good = left > 0 ? `good for ${durationText(left)}` : 'which has run out';
  return [from, `certificate of ${certificate.issuer}, ${good}`].filter(Boolean).join(' · ');
}
