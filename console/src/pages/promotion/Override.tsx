/** An owner takes it though rules are not met: why, stands in the record and on the board. */
import { useMutation, useQuery } from '@tanstack/react-query';
import { useNavigate } from '@tanstack/react-router';
import { Dialog } from 'radix-ui';
import { useState } from 'react';
import type { Deployment } from '../../../../src/wire/environments/environments';
import type { Me } from '../../../../src/wire/people';
import type { Promotion } from '../../../../src/wire/releases';
import { get, paths, post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { Text } from '../../parts/fields';

export function Override({ one }: { one: Promotion }) {
  const [open, setOpen] = useState(false);
  const [why, setWhy] = useState('');
  const navigate = useNavigate();
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const { project, environment } = one;
  const act = useMutation({
    mutationFn: () =>
      post<Deployment>(`${paths.environment(project, environment)}/deployments`, {
        kind: 'promote',
        release: one.release.number,
        override: why,
      }),
    onSuccess: () => navigate({ to: '/$project/$environment', params: { project, environment } }),
  });
  if (!one.overridable || me.data?.role !== 'owner') return null;
  const unmet = one.rules.filter(({ state }) => state !== 'met');
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button kind="danger">Override …</Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/30" />
        <Dialog.Content className="card fixed top-24 left-1/2 z-50 w-[min(32rem,calc(100vw-2rem))] -translate-x-1/2 px-6 py-5">
          <Dialog.Title className="mb-2 text-[17px] font-semibold">Promote r{one.release.number} although</Dialog.Title>
          <Dialog.Description asChild>
            <ul className="mb-3 list-disc pl-5 text-second">
              {unmet.map(({ rule, says }) => (
                <li key={`${rule} ${says}`}>{says}</li>
              ))}
            </ul>
          </Dialog.Description>
          {act.error ? <Trouble error={act.error} /> : null}
          <form
            className="flex flex-col gap-3"
            onSubmit={(event) => {
              event.preventDefault();
              act.mutate();
            }}
          >
            <Text label="Why" value={why} set={setWhy} />
            <p className="text-[13px] text-second">It stays in the record and on the board, with your name.</p>
            <div className="flex justify-end gap-2">
              <Dialog.Close asChild>
                <Button>Cancel</Button>
              </Dialog.Close>
              <Button type="submit" kind="danger" disabled={why.trim() === '' || act.isPending}>
                Promote r{one.release.number}
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
