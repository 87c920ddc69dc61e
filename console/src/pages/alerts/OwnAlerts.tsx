/** What reaches a person of their own runs and reviews. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { ownTopics } from '../../../../src/core/states';
import type { OwnAlert } from '../../../../src/wire/alerts';
import { get, post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { Check, Text } from '../../parts/fields';

const key = ['own-alerts'];
const spoken = {
  'my-run-failed': 'my run failed',
  'my-run-passed': 'my run passed',
  'my-review-live': 'my review is live',
};

export function OwnAlerts() {
  const client = useQueryClient();
  const own = useQuery({ queryKey: key, queryFn: () => get<OwnAlert>('/api/me/alerts') });
  const [mail, setMail] = useState<string | null>(null);
  const [chosen, setChosen] = useState<readonly string[] | null>(null);
  const save = useMutation({
    mutationFn: (body: object) => post<OwnAlert>('/api/me/alerts', body),
    onSuccess: () => {
      setMail(null);
      setChosen(null);
    },
    onSettled: () => client.invalidateQueries({ queryKey: key }),
  });
  const kept = own.data?.alert ?? null;
  const address = mail ?? kept?.target ?? '';
  const topics = chosen ?? kept?.topics ?? [];
  return (
    <section className="card px-5 py-4" aria-label="Of your own">
      <h2 className="mb-2 text-[15px] font-semibold">Of your own</h2>
      <form
        className="flex flex-wrap items-end gap-x-5 gap-y-3"
        onSubmit={(event) => {
          event.preventDefault();
          save.mutate({ mail: address, topics });
        }}
      >
        <div className="w-72">
          <Text label="Your mail address" value={address} set={setMail} placeholder="mika@kohama.example" />
        </div>
        <span className="flex flex-wrap gap-x-5 gap-y-1.5 py-2">
          {ownTopics.map((topic) => (
            <Check
              key={topic}
              label={spoken[topic]}
              checked={topics.includes(topic)}
              set={(on) => setChosen(on ? [...topics, topic] : topics.filter((one) => one !== topic))}
            />
          ))}
        </span>
        <Button type="submit" disabled={save.isPending || !address || topics.length === 0}>
          {save.isPending ? 'Sending a test …' : 'Keep it'}
        </Button>
        {kept ? (
          <Button disabled={save.isPending} onClick={() => save.mutate({ topics: [] })}>
            Tell me nothing
          </Button>
        ) : null}
      </form>
      {save.error ? <Trouble error={save.error} /> : null}
    </section>
  );
}
