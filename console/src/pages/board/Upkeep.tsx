/** What owners change about a project: its name, whether it goes on, and its end, with what goes with it said first. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate } from '@tanstack/react-router';
import { useState } from 'react';
import type { Me } from '../../../../src/wire/people';
import type { Project, Removal } from '../../../../src/wire/projects';
import { get, paths, post, remove } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { smallFieldLook, Fold } from '../../parts/fields';

export function Upkeep({ project }: { project: Project }) {
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const navigate = useNavigate();
  const client = useQueryClient();
  const [name, setName] = useState(project.name);
  const [ending, setEnding] = useState(false);
  const path = paths.project(project.name);
  const change = useMutation({
    mutationFn: (body: { name?: string; paused?: boolean }) => post<Project>(`${path}/change`, body),
    onSuccess: async (now) => {
      await client.invalidateQueries();
      if (now.name !== project.name) await navigate({ to: '/$project', params: { project: now.name } });
    },
  });
  const removal = useQuery({
    queryKey: ['removal', project.name],
    queryFn: () => get<Removal>(`${path}/removal`),
    enabled: ending,
  });
  const end = useMutation({
    mutationFn: () => remove(path),
    onSuccess: async () => {
      await client.invalidateQueries();
      await navigate({ to: '/' });
    },
  });
  if (me.data?.role !== 'owner') return null;
  return (
    <Fold className="card px-4 py-2.5" title="Rename, pause, remove" titleClass="text-[15px] font-semibold">
      <div className="mt-2.5 flex flex-col gap-2.5">
        <form
          className="flex flex-wrap gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            change.mutate({ name });
          }}
        >
          <input
            aria-label="New name"
            value={name}
            onChange={(event) => setName(event.target.value)}
            className={`code min-w-0 flex-1 ${smallFieldLook}`}
          />
          <Button type="submit" size="small" disabled={change.isPending || name === project.name || name === ''}>
            Rename
          </Button>
        </form>
        <Button
          size="small"
          className="self-start"
          disabled={change.isPending}
          onClick={() => change.mutate({ paused: !project.paused })}
        >
          {project.paused ? 'Resume' : 'Pause: pushes wait'}
        </Button>
        {ending && removal.data ? (
          <div className="rounded-md border border-vermilion px-3 py-2">
            <p>
              Removing it also removes{' '}
              {removal.data.addresses.length ? (
                <span className="code">{removal.data.addresses.join(', ')}</span>
              ) : (
                'no addresses'
              )}
              , {removal.data.releases} releases, {removal.data.runs} runs and {removal.data.variables} variables
              {removal.data.resources.length ? (
                <>
                  , and <strong>the databases of {removal.data.resources.join(', ')}</strong> with their backups
                </>
              ) : null}
              . What happened stays in the record.
            </p>
            <span className="mt-2 flex gap-2">
              <Button kind="danger" size="small" disabled={end.isPending} onClick={() => end.mutate()}>
                Remove {project.name}
              </Button>
              <Button size="small" onClick={() => setEnding(false)}>
                Cancel
              </Button>
            </span>
          </div>
        ) : (
          <Button size="small" className="self-start" onClick={() => setEnding(true)}>
            Remove it …
          </Button>
        )}
        {change.error || end.error ? <Trouble error={change.error ?? end.error} /> : null}
      </div>
    </Fold>
  );
}
