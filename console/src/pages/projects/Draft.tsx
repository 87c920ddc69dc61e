/** The draft of a project: what is to be committed, and the act where the service can do it. */
import { Fold } from '../../parts/fields';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import type { Draft as State, Recognised } from '../../../../src/wire/guide';
import { get, paths, post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { DefinitionEditor } from './Definition';

const noReasons = new Map<string, string>();

export function Draft({ project }: { project: string }) {
  const path = `${paths.project(project)}/draft`;
  const draft = useQuery({ queryKey: ['draft', project], queryFn: () => get<State>(path) });
  const client = useQueryClient();
  const [text, setText] = useState<string | null>(null);
  const refresh = { onSuccess: () => client.invalidateQueries() };
  const keep = useMutation({ mutationFn: () => post<State>(path, { text }), ...refresh });
  const commit = useMutation({ mutationFn: () => post<State>(`${path}/commit`), ...refresh });
  if (!draft.data || draft.data.difference === '' || draft.data.text === null) return null;
  const now = text ?? draft.data.text;
  return (
    <section className="card mb-3.5" aria-label="Draft">
      <header className="flex flex-wrap items-center gap-2.5 px-4 py-2.5">
        <h2 className="text-[15px] font-semibold">Draft definition</h2>
        <span className="text-second">
          Used for commits without <span className="code">{draft.data.path}</span>. Commit it to keep it.
        </span>
        <span className="ml-auto flex gap-2">
          <Button size="small" onClick={() => navigator.clipboard.writeText(draft.data.text ?? '')}>
            Copy it
          </Button>
          {draft.data.committable ? (
            <Button size="small" disabled={commit.isPending} onClick={() => commit.mutate()}>
              Commit it
            </Button>
          ) : null}
        </span>
      </header>
      {keep.error || commit.error ? (
        <div className="px-4 pb-3">
          <Trouble error={keep.error ?? commit.error} />
        </div>
      ) : null}
      <Fold className="border-t border-faint px-4 py-2" title="Show and change it" titleClass="text-second">
        <div className="my-2 flex flex-col gap-2">
          <DefinitionEditor text={now} set={setText} reasons={noReasons} />
          <Button
            className="self-start"
            disabled={text === null || text === draft.data.text || keep.isPending}
            onClick={() => keep.mutate()}
          >
            Save and run the newest commit
          </Button>
          <pre className="code max-h-72 overflow-auto rounded-md bg-faint px-3 py-2">{draft.data.difference}</pre>
        </div>
      </Fold>
    </section>
  );
}

/** For a project whose commits have no definition: what is recognised in the newest one, to be changed and kept as the draft. */
export function ProposeDraft({ project }: { project: string }) {
  const client = useQueryClient();
  const [text, setText] = useState<string | null>(null);
  const look = useMutation({
    mutationFn: () => get<Recognised>(`${paths.project(project)}/proposal`),
    onSuccess: (one) => setText(one.text),
  });
  const keep = useMutation({
    mutationFn: () => post<State>(`${paths.project(project)}/draft`, { text }),
    onSuccess: () => client.invalidateQueries(),
  });
  const found = look.data;
  const reasons = new Map(found?.reasons.map((one) => [found.text.split('\n')[one.line - 1] ?? '', one.why]) ?? []);
  return (
    <section className="card mb-3.5 px-4 py-3" aria-label="A definition">
      <h2 className="mb-1.5 text-[15px] font-semibold">Its commits have no definition yet</h2>
      {found && text !== null ? (
        <div className="flex flex-col gap-2.5">
          <p>
            <span className="font-semibold">
              {found.found.map((one) => one.what).join(', ') || 'Nothing that runs'}
            </span>{' '}
            <span className="text-second">
              in <span className="code">{found.commit.id.slice(0, 7)}</span> {found.commit.title}
            </span>
          </p>
          <DefinitionEditor text={text} set={setText} reasons={reasons} />
          {found.notes.map((one) => (
            <p key={`${one.code} ${one.says}`} className="rounded-md bg-ochre-wash px-3 py-1.5">
              {one.says} <span className="text-second">{one.next}</span>
            </p>
          ))}
          <Button kind="main" className="self-start" disabled={keep.isPending} onClick={() => keep.mutate()}>
            Keep it as the draft, and run
          </Button>
        </div>
      ) : (
        <Button disabled={look.isPending} onClick={() => look.mutate()}>
          Propose one from what is in it
        </Button>
      )}
      {look.error || keep.error ? (
        <div className="mt-2">
          <Trouble error={look.error ?? keep.error} />
        </div>
      ) : null}
    </section>
  );
}
