/** A terminal inside an environment, and who has been in there. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { lazy, Suspense, useState } from 'react';
import { atLeast } from '../../../../src/core/states';
import type { EnvironmentDetail } from '../../../../src/wire/environments/environments';
import type { Terminal, TerminalAsked } from '../../../../src/wire/environments/terminals';
import type { PageOf } from '../../../../src/wire/parts';
import type { Me } from '../../../../src/wire/people';
import { get, paths, post, remove } from '../../data/api';
import { Ago, Button, Empty, Loading, TableHead, Trouble } from '../../parts/basics';
import { Choice } from '../../parts/fields';
import { Chip } from '../../parts/Mark';

// What draws it is large, and wanted by few.
const Screen = lazy(() => import('./Screen'));

export function Inside({ one }: { one: EnvironmentDetail }) {
  const path = `${paths.environment(one.project, one.name)}/terminals`;
  const key = ['terminals', one.project, one.name];
  const client = useQueryClient();
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const may = me.data?.role ? atLeast(me.data.role, one.kind === 'review' ? 'developer' : 'releaser') : false;
  const [where, setWhere] = useState('');
  const [asked, setAsked] = useState<TerminalAsked | null>(null);
  const [says, setSays] = useState<string | null>(null);
  const open = useMutation({
    mutationFn: () => {
      const [kind, name] = where.split(' ');
      const at = kind === 'beside' ? { beside: name } : kind === 'part' ? { part: name } : {};
      return post<TerminalAsked>(path, { command: [], tty: true, ...at });
    },
    onSuccess: (got) => {
      setSays(null);
      setAsked(got);
    },
  });
  const over = (text: string) => {
    setSays(text);
    void client.invalidateQueries({ queryKey: key });
  };
  const parts = one.parts.filter((part) => part.kind !== 'site');
  const ready = one.instanceList
    .filter((item) => item.state === 'ready' && item.wanted && item.deployment === one.live?.number)
    .map((item) => `${item.part}.${item.position}`);
  const options = [
    { value: '', text: 'in a sandbox of its own' },
    ...(parts.length > 1
      ? parts.map(({ name }) => ({ value: `part ${name}`, text: `in a sandbox with the files of ${name}` }))
      : []),
    ...ready.map((name) => ({ value: `beside ${name}`, text: `beside the program of ${name}` })),
  ];
  return (
    <>
      {may && one.live ? (
        <section className="card mb-3.5 overflow-hidden" aria-label="Terminal">
          <div className="flex flex-wrap items-center gap-3 px-5 py-3">
            <Choice label="Where" value={where} set={setWhere} options={options} />
            <Button disabled={open.isPending || (asked !== null && says === null)} onClick={() => open.mutate()}>
              {asked ? 'Open another' : 'Open a terminal'}
            </Button>
            <p className="text-second">
              {says ??
                'It sees what programs see, secrets too. Who was inside, and for how long, is recorded; what is typed is not.'}
            </p>
          </div>
          {open.error ? <Trouble error={open.error} /> : null}
          {asked ? (
            <Suspense fallback={<Loading />}>
              <Screen key={asked.terminal.id} asked={asked} over={over} />
            </Suspense>
          ) : null}
        </section>
      ) : null}
      {one.live && me.data && !may ? (
        <p className="mb-3.5 text-second">
          A terminal needs the role {one.kind === 'review' ? 'developer' : 'releaser'}: it sees what programs see.
        </p>
      ) : null}
      <Past path={path} at={key} may={may} />
    </>
  );
}

function Past({ path, at, may }: { path: string; at: readonly unknown[]; may: boolean }) {
  const client = useQueryClient();
  const all = useQuery({ queryKey: at, queryFn: () => get<PageOf<Terminal>>(path) });
  const end = useMutation({
    mutationFn: (id: string) => remove(`${path}/${id}`),
    onSettled: () => client.invalidateQueries({ queryKey: at }),
  });
  if (all.error && !all.data) return <Trouble error={all.error} />;
  if (!all.data) return <Loading />;
  const items = all.data.items.filter((one) => one.openedAt !== null || one.state !== 'ended');
  if (items.length === 0) return <Empty title="Nobody has been inside.">Whoever was is listed here.</Empty>;
  return (
    <section className="card overflow-x-auto px-5 py-3.5" aria-label="Who was inside">
      <h2 className="mb-1 font-semibold">Who was inside</h2>
      {end.error ? <Trouble error={end.error} /> : null}
      <table className="w-full border-collapse text-left">
        <TableHead columns={['who', 'where', 'what', 'since', 'ended', '']} />
        <tbody>
          {items.map((one) => (
            <tr key={one.id} className="border-t border-faint">
              <td className="px-4 py-1.5">{one.who}</td>
              <td className="px-4 py-1.5">{one.beside ? `beside ${one.beside}` : one.part}</td>
              <td className="code max-w-96 truncate px-4 py-1.5">{one.command.join(' ') || 'a shell'}</td>
              <td className="px-4 py-1.5">
                <Ago at={one.openedAt ?? one.createdAt} />
              </td>
              <td className="px-4 py-1.5">
                {one.state === 'ended' ? (
                  one.why === 'exit' ? (
                    `exit ${one.exit}`
                  ) : (
                    one.why
                  )
                ) : (
                  <Chip tone="running">inside</Chip>
                )}
              </td>
              <td className="py-1.5 text-right">
                {may && one.state !== 'ended' ? (
                  <Button size="compact" disabled={end.isPending} onClick={() => end.mutate(one.id)}>
                    End it
                  </Button>
                ) : null}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
