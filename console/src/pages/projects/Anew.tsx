/** Where there is no repository yet: one that passes its tests and is live as it stands. */
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import type { BeginningKind } from '../../../../src/core/states';
import type { AddedProject } from '../../../../src/wire/projects';
import { post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { Choice, Fold, Text } from '../../parts/fields';

const beginnings: { value: BeginningKind; text: string }[] = [
  { value: 'node-api', text: 'an API on Node.js, with a database' },
  { value: 'site-and-api', text: 'a page and its API, with a database' },
  { value: 'python-api', text: 'an API in Python' },
  { value: 'java-api', text: 'an API in Java' },
  { value: 'site', text: 'a site of files' },
  { value: 'worker', text: 'a worker' },
];

export function Anew({ begun }: { begun: (project: string) => void }) {
  const [name, setName] = useState('');
  const [from, setFrom] = useState<string>('node-api');
  const add = useMutation({
    mutationFn: () => post<AddedProject>('/api/projects', { name, source: 'hosted', begin: from }),
    onSuccess: (one) => begun(one.name),
  });
  return (
    <Fold className="mt-3 text-second" title="There is no repository yet: begin with one that works">
      <form
        className="mt-2 flex flex-wrap items-end gap-3 text-ink"
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate();
        }}
      >
        <Text
          label="Its name"
          value={name}
          set={setName}
          title="Lower case letters, digits and dashes, beginning with a letter"
          required
        />
        <div className="flex flex-col gap-1">
          <span className="font-semibold">It begins with</span>
          <Choice label="It begins with" value={from} set={setFrom} options={beginnings} />
        </div>
        <Button type="submit" disabled={add.isPending || name === '' || add.isSuccess}>
          Begin
        </Button>
      </form>
      {add.error ? (
        <div className="mt-2">
          <Trouble error={add.error} />
        </div>
      ) : null}
      {add.data ? (
        <p className="mt-2 text-ink">
          Its repository:{' '}
          <span className="code break-all">git clone {add.data.endpoint.replace('//', '//x:TOKEN@')}</span>, with a
          token of the role developer.
        </p>
      ) : null}
    </Fold>
  );
}
