/** What is wrong now, who is told of it, and what one is told of one's own. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { alertTopics, atLeast } from '../../../../src/core/states';
import type { AddedAlert, AlertPage } from '../../../../src/wire/alerts';
import type { Me } from '../../../../src/wire/people';
import { get, post } from '../../data/api';
import { Ago, Button, Loading, Trouble } from '../../parts/basics';
import { Check, Choice, Text } from '../../parts/fields';
import { Mark } from '../../parts/Mark';
import { Destinations } from './Destinations';
import { OwnAlerts } from './OwnAlerts';
import { Secret } from './Secret';
import { WayOut } from './WayOut';

const key = ['alerts'];
const spoken = (topic: string): string => topic.replaceAll('-', ' ');

export function AlertsPage(): React.ReactNode {
  const page = useQuery({ queryKey: key, queryFn: () => get<AlertPage>('/api/alerts') });
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const may = me.data?.role ? atLeast(me.data.role, 'releaser') : false;
  if (page.error && !page.data) return <Trouble error={page.error} />;
  if (!page.data) return <Loading />;
  const { items, wrong } = page.data;
  return (
    <>
      <h1 className="title mb-4">
        {wrong.length === 0
          ? 'Nothing is wrong'
          : `${wrong.length} ${wrong.length === 1 ? 'thing is' : 'things are'} wrong`}
      </h1>
      {wrong.length ? (
        <section className="card mb-3.5" aria-label="Wrong now">
          {wrong.map((one) => (
            <div
              key={`${one.topic} ${one.place}`}
              className="flex flex-wrap items-baseline gap-x-3 border-b border-faint px-5 py-2.5 last:border-0"
            >
              <Mark state="failed" />
              <span className="font-semibold">{one.place}</span>
              <span className="text-vermilion">{spoken(one.topic)}</span>
              <span className="min-w-0 flex-1 text-second">{one.says}</span>
              <span className="text-second">
                {one.told ? 'told, ' : ''}
                <Ago at={one.since} />
              </span>
            </div>
          ))}
        </section>
      ) : null}
      <section className="card mb-3.5" aria-label="Alerts">
        <h2 className="border-b border-faint px-5 py-3 text-[15px] font-semibold">Who is told</h2>
        {items.length === 0 ? <p className="px-5 py-3 text-second">Nobody yet.</p> : null}
        {items.map((one) => (
          <One key={one.name} one={one} may={may} />
        ))}
        {may ? <Add /> : null}
      </section>
      <OwnAlerts />
      <Destinations />
    </>
  );
}

function One({ one, may }: { one: AlertPage['items'][number]; may: boolean }) {
  return (
    <WayOut
      one={one}
      path={`/api/alerts/${encodeURIComponent(one.name ?? '')}`}
      queryKey={key}
      target={one.target}
      mayTest={may}
      mayRemove={may}
    >
      {one.topics.length === alertTopics.length ? 'of all that goes wrong' : one.topics.map(spoken).join(', ')}
    </WayOut>
  );
}

const ways = ['mail', 'webhook'] as const;

function Add() {
  const client = useQueryClient();
  const [name, setName] = useState('');
  const [way, setWay] = useState<(typeof ways)[number]>('mail');
  const [target, setTarget] = useState('');
  const [about, setAbout] = useState('');
  const [topics, setTopics] = useState<readonly string[]>(alertTopics);
  const add = useMutation({
    mutationFn: () => {
      const [project, environment] = about.trim().split('/');
      return post<AddedAlert>('/api/alerts', {
        name,
        [way]: target,
        topics,
        ...(project ? { project } : {}),
        ...(environment ? { environment } : {}),
      });
    },
    onSuccess: () => {
      setName('');
      setTarget('');
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
        <Text label="Name" value={name} set={setName} placeholder="on-call" />
        <div className="flex flex-col gap-1">
          <span className="font-semibold">By</span>
          <Choice
            label="By"
            value={way}
            set={(value) => setWay(value === 'webhook' ? 'webhook' : 'mail')}
            options={ways.map((one) => ({ value: one, text: one }))}
          />
        </div>
        <Text
          label={way === 'mail' ? 'Mail address' : 'Address of the webhook'}
          value={target}
          set={setTarget}
          placeholder={way === 'mail' ? 'on-call@kohama.example' : 'https://pager.kohama.example/events'}
        />
        <Text label="About" value={about} set={setAbout} placeholder="everything" />
      </div>
      <fieldset className="flex flex-wrap gap-x-5 gap-y-1.5">
        <legend className="mb-1 font-semibold">Of what</legend>
        {alertTopics.map((topic) => (
          <Check
            key={topic}
            label={spoken(topic)}
            checked={topics.includes(topic)}
            set={(on) => setTopics(on ? [...topics, topic] : topics.filter((one) => one !== topic))}
          />
        ))}
      </fieldset>
      <span className="flex items-center gap-3">
        <Button type="submit" disabled={add.isPending || !name || !target || topics.length === 0}>
          {add.isPending ? 'Sending a test …' : 'Send a test, and add it'}
        </Button>
        <span className="text-second">It is kept when the test arrives.</span>
      </span>
      {add.error ? <Trouble error={add.error} /> : null}
      {add.data ? (
        <p role="status" className="text-moss">
          {add.data.name} is added; the test: {add.data.test}.
        </p>
      ) : null}
      {add.data?.secret ? <Secret text={add.data.secret} /> : null}
    </form>
  );
}
