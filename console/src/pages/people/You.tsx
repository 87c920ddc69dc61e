/** Who one is, and where one is signed in; owners see everybody's sessions. */
import { clientText } from '../../../../src/core/clients';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Me, Session } from '../../../../src/wire/people';
import type { PageOf } from '../../../../src/wire/parts';
import { get, post, remove } from '../../data/api';
import { Ago, Button, Loading, TableHead, Trouble } from '../../parts/basics';

export function YouPage(): React.ReactNode {
  const client = useQueryClient();
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const sessions = useQuery({
    queryKey: ['sessions'],
    queryFn: () => get<PageOf<Session>>('/api/sessions'),
    refetchInterval: 30_000,
  });
  const end = useMutation({
    mutationFn: (id: string) => remove(`/api/sessions/${encodeURIComponent(id)}`),
    onSettled: () =>
      Promise.all([
        client.invalidateQueries({ queryKey: ['sessions'] }),
        client.invalidateQueries({ queryKey: ['me'] }),
      ]),
  });
  const items = sessions.data?.items ?? [];
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center justify-between gap-3">
        <div>
          <h1 className="title">{me.data?.name}</h1>
          <p className="text-second">
            Role {me.data?.role}.{' '}
            {me.data?.role === 'owner'
              ? 'You see where everybody is signed in, and may end it.'
              : 'These are the places where you are signed in.'}
          </p>
        </div>
        <Button onClick={signOut}>Sign out here</Button>
      </div>
      {sessions.error && !sessions.data ? <Trouble error={sessions.error} /> : null}
      {end.error ? <Trouble error={end.error} /> : null}
      {sessions.isPending ? <Loading /> : null}
      {items.length ? (
        <div className="card overflow-x-auto">
          <table className="w-full border-collapse text-left">
            <caption className="sr-only">Sessions</caption>
            <TableHead columns={['Person', 'Browser', 'Begun', 'Last seen', 'Ends at', '']} />
            <tbody>
              {items.map((one) => (
                <tr key={one.id} className="border-b border-faint last:border-0 hover:bg-faint">
                  <td className="px-4 py-2 font-semibold">{one.person}</td>
                  <td className="max-w-md truncate px-4 py-2" title={one.client}>
                    {clientText(one.client)}
                  </td>
                  <td className="px-4 py-2 text-second">
                    <Ago at={one.begunAt} />
                  </td>
                  <td className="px-4 py-2 text-second">{one.own ? 'now' : <Ago at={one.seenAt} />}</td>
                  <td className="px-4 py-2 whitespace-nowrap text-second">{daysText(one.expiresAt)}</td>
                  <td className="px-4 py-2 text-right">
                    {one.own ? (
                      <span className="text-second">this one</span>
                    ) : (
                      <Button data-row size="compact" disabled={end.isPending} onClick={() => end.mutate(one.id)}>
                        End
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : null}
    </>
  );
}

async function signOut(): Promise<void> {
  await post('/api/sign-out');
  location.assign('/sign-in');
}

function daysText(iso: string): string {
  const days = Math.round((Date.parse(iso) - Date.now()) / 86_400_000);
  return days < 1 ? 'today' : days === 1 ? 'in a day' : `in ${days} days`;
}
