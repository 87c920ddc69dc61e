/** Projects whose repository is here: empty, to be pushed to; or one that passes its tests and is live as it stands. */
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import type { BeginningKind } from '../../../../src/core/states';
import type { AddedProject } from '../../../../src/wire/projects';
import { post } from '../../data/api';
import { Link } from '@tanstack/react-router';
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

function Form({
  title,
  press,
  body,
  added,
  children,
  then,
}: {
  title: string;
  press: string;
  /** What more is asked for than its name. */
  body: object;
  added?: (project: string) => void;
  children?: React.ReactNode;
  then: (one: AddedProject) => React.ReactNode;
}) {
  const [name, setName] = useState('');
  const add = useMutation({
    mutationFn: () => post<AddedProject>('/api/projects', { name, source: 'hosted', ...body }),
    onSuccess: (one) => added?.(one.name),
  });
  return (
    <Fold className="mt-3 text-second" title={title}>
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
        {children}
        <Button type="submit" disabled={add.isPending || name === '' || add.isSuccess}>
          {press}
        </Button>
      </form>
      {add.error ? (
        <div className="mt-2">
          <Trouble error={add.error} />
        </div>
      ) : null}
      {add.data ? <p className="mt-2 text-ink">{then(add.data)}</p> : null}
    </Fold>
  );
}

const withToken = ({ endpoint }: AddedProject): string => endpoint.replace('//', '//x:TOKEN@');

/** Commits that are pushed straight to the service: a name, and the address to push to. */
export const Hosted = () => (
  <Form
    title="I will push to Tsunagi directly"
    press="Add it"
    body={{}}
    then={(one) => (
      <>
        Push to it: <span className="code break-all">git push {withToken(one)} main</span>, with a token of the role
        developer. Then{' '}
        <Link to="/$project" params={{ project: one.name }} className="font-semibold text-indigo">
          {one.name}
        </Link>{' '}
        shows how it goes, and proposes a definition where there is none.
      </>
    )}
  />
);

/** Where there is no repository yet. */
export function Anew({ begun }: { begun: (project: string) => void }) {
  const [from, setFrom] = useState<string>('node-api');
  return (
    <Form
      title="There is no repository yet: begin with one that works"
      press="Begin"
      body={{ begin: from }}
      added={begun}
      then={(one) => (
        <>
          Its repository: <span className="code break-all">git clone {withToken(one)}</span>, with a token of the role
          developer.
        </>
      )}
    >
      <div className="flex flex-col gap-1">
        <span className="font-semibold">It begins with</span>
        <Choice label="It begins with" value={from} set={setFrom} options={beginnings} />
      </div>
    </Form>
  );
}
