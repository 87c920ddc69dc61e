/** Where the logs of programs go on to. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { atLeast } from '../../../../src/core/states';
import { bytesText } from '../../../../src/core/sizes';
import type { Destination } from '../../../../src/wire/destinations';
import type { PageOf } from '../../../../src/wire/parts';
import type { Me } from '../../../../src/wire/people';
import { get, post } from '../../data/api';
import { Ago, Button, Trouble } from '../../parts/basics';
import { Choice, Text } from '../../parts/fields';
import { WayOut } from './WayOut';

const key = ['destinations'];

export function Destinations(): React.ReactNode {
  const all = useQuery({ queryKey: key, queryFn: () => get<PageOf<Destination>>('/api/destinations') });
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const may = (needed: 'releaser' | 'owner') => (me.data?.role ? atLeast(me.data.role, needed) : false);
  if (all.error && !all.data) return <Trouble error={all.error} />;
  if (!all.data) return null;
  return (
    <section className="card my-3.5" aria-label="Log destinations">
      <h2 className="border-b border-faint px-5 py-3 text-[15px] font-semibold">Where logs go on to</h2>
      {all.data.items.length === 0 ? <p className="px-5 py-3 text-second">They stay here.</p> : null}
      {all.data.items.map((one) => (
        <One key={one.name} one={one} mayTest={may('releaser')} mayRemove={may('owner')} />
      ))}
      {may('owner') ? <Add /> : null}
    </section>
  );
}

function One({ one, mayTest, mayRemove }: { one: Destination; mayTest: boolean; mayRemove: boolean }) {
  return (
    <WayOut
      one={one}
      path={`/api/destinations/${encodeURIComponent(one.name)}`}
      queryKey={key}
      target={one.url}
      mayTest={mayTest}
      mayRemove={mayRemove}
    >
      {one.sentAt ? (
        <>
          {one.sentLines.toLocaleString()} lines, the last <Ago at={one.sentAt} />
        </>
      ) : (
        'nothing yet'
      )}
      {one.leftBytes ? <span className="text-ochre"> · {bytesText(one.leftBytes)} left out</span> : null}
    </WayOut>
  );
}

const ways = [
  { value: 'syslog', text: 'syslog', example: 'syslog+tls://logs.kohama.example:6514' },
  { value: 'otlp', text: 'OTLP', example: 'https://logs.kohama.example/v1/logs' },
] as const;

function Add() {
  const client = useQueryClient();
  const [name, setName] = useState('');
  const [way, setWay] = useState<'syslog' | 'otlp'>('syslog');
  const [address, setAddress] = useState('');
  const [of, setOf] = useState('');
  const add = useMutation({
    mutationFn: () => {
      const [project, environment] = of.trim().split('/');
      return post<Destination>('/api/destinations', {
        name,
        [way]: address,
        ...(project && project !== '*' ? { project } : {}),
        ...(environment ? { environment } : {}),
      });
    },
    onSuccess: () => {
      setName('');
      setAddress('');
    },
    onSettled: () => client.invalidateQueries({ queryKey: key }),
  });
  return (
    <form
      className="flex flex-col gap-3 px-5 py-4"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <div className="grid gap-3 md:grid-cols-[12rem_9rem_1fr_14rem]">
        <Text label="Name" value={name} set={setName} placeholder="archive" />
        <div className="flex flex-col gap-1">
          <span className="font-semibold">As</span>
          <Choice label="As" value={way} set={(value) => setWay(value === 'otlp' ? 'otlp' : 'syslog')} options={ways} />
        </div>
        <Text
          label="Address of the receiver"
          value={address}
          set={setAddress}
          placeholder={ways.find((one) => one.value === way)?.example ?? ''}
        />
        <Text label="Logs of" value={of} set={setOf} placeholder="everything" />
      </div>
      <span className="flex items-center gap-3">
        <Button type="submit" disabled={add.isPending || !name || !address}>
          {add.isPending ? 'Sending a line …' : 'Send a line, and add it'}
        </Button>
        <span className="text-second">It is kept when the line is taken. What is printed from then on goes there.</span>
      </span>
      {add.error ? <Trouble error={add.error} /> : null}
    </form>
  );
}
