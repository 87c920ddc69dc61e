/** One way out of the house (an alert, a log destination): where it leads, whether it works, a test, and its removal after a second press. */
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import type { AlertTest } from '../../../../src/wire/alerts';
import type { Said } from '../../../../src/wire/parts';
import { post, remove } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { Chip } from '../../parts/Mark';

export interface WayOutProps {
  one: { name: string | null; project: string | null; environment: string | null; issue: Said | null };
  /** Its address at the API, and what is asked for again when it is gone. */
  path: string;
  queryKey: readonly string[];
  target: string;
  mayTest: boolean;
  mayRemove: boolean;
  /** What more is said of it. */
  children: React.ReactNode;
}

export function WayOut({ one, path, queryKey, target, mayTest, mayRemove, children }: WayOutProps) {
  const client = useQueryClient();
  const [sure, setSure] = useState(false);
  const test = useMutation({ mutationFn: () => post<AlertTest>(`${path}/test`) });
  const gone = useMutation({
    mutationFn: () => remove(path, {}),
    onSettled: () => client.invalidateQueries({ queryKey }),
  });
  return (
    <div className="border-b border-faint px-5 py-3">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1.5">
        <span className="font-semibold">{one.name}</span>
        <span className="code break-all">{target}</span>
        <Chip tone="plain">
          {one.environment ? `${one.project ?? 'all projects'}/${one.environment}` : (one.project ?? 'everything')}
        </Chip>
        <span className="text-second">{children}</span>
        <span className="ml-auto flex items-center gap-2">
          {test.data ? (
            <span role="status" className={test.data.accepted ? 'text-moss' : 'text-vermilion'}>
              {test.data.says}
            </span>
          ) : null}
          {mayTest ? (
            <Button size="compact" disabled={test.isPending} onClick={() => test.mutate()}>
              {test.isPending ? 'Sending …' : 'Send a test'}
            </Button>
          ) : null}
          {mayRemove && sure ? (
            <Button size="compact" kind="danger" disabled={gone.isPending} onClick={() => gone.mutate()}>
              Remove {one.name}
            </Button>
          ) : mayRemove ? (
            <Button size="compact" onClick={() => setSure(true)}>
              Remove
            </Button>
          ) : null}
        </span>
      </div>
      {one.issue ? (
        <p className="mt-1 text-vermilion">
          {one.issue.says} <span className="text-second">{one.issue.next}</span>
        </p>
      ) : null}
      {test.error ? <Trouble error={test.error} /> : null}
      {gone.error ? <Trouble error={gone.error} /> : null}
    </div>
  );
}
