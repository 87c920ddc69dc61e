/** Removes a resource: what goes is said first, and its name is typed again. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Dialog } from 'radix-ui';
import { useState } from 'react';
import { bytesText } from '../../../../src/core/sizes';
import type { ResourceDetail, ResourceRemoval } from '../../../../src/wire/environments/resources';
import { get, remove } from '../../data/api';
import { Button, Loading, Trouble } from '../../parts/basics';
import { Check, Text } from '../../parts/fields';

export function RemoveIt({ path, one }: { path: string; one: ResourceDetail }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState('');
  const [backups, setBackups] = useState(false);
  const client = useQueryClient();
  const goes = useQuery({
    queryKey: ['removal', one.project, one.environment, one.name],
    queryFn: () => get<ResourceRemoval>(`${path}/removal`),
    enabled: open,
  });
  const act = useMutation({
    mutationFn: () => remove(path, { confirm: name, backups }),
    onSuccess: async () => {
      setOpen(false);
      await client.invalidateQueries();
    },
  });
  const removal = goes.data;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button size="compact" kind="danger">
          Remove …
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/30" />
        <Dialog.Content className="card fixed top-24 left-1/2 z-50 w-[min(32rem,calc(100vw-2rem))] -translate-x-1/2 px-6 py-5">
          <Dialog.Title className="mb-2 text-[17px] font-semibold">
            Remove {one.name} of {one.project}/{one.environment}
          </Dialog.Title>
          <Dialog.Description className="mb-3 text-second">
            {removal
              ? `Gone for good: ${removal.bytes === null ? 'what is in it' : `${bytesText(removal.bytes)} of data`}, its logins${removal.connections ? `, ${removal.connections} open sessions` : ''}.`
              : 'Looking at what goes …'}
          </Dialog.Description>
          {goes.error ? <Trouble error={goes.error} /> : null}
          {removal?.usedBy ? (
            <p className="text-ochre">{removal.usedBy} uses it and is live: deploy a release without it first.</p>
          ) : removal ? (
            <form
              className="flex flex-col gap-3"
              onSubmit={(event) => {
                event.preventDefault();
                act.mutate();
              }}
            >
              {removal.backups ? (
                <Check label={`Its ${removal.backups} backups too`} checked={backups} set={setBackups} />
              ) : null}
              <Text label="Its name again" value={name} set={setName} autoComplete="off" />
              {act.error ? <Trouble error={act.error} /> : null}
              <span className="flex gap-2">
                <Button type="submit" kind="danger" disabled={name !== one.name || act.isPending}>
                  Remove {one.name}
                </Button>
                <Dialog.Close asChild>
                  <Button>Cancel</Button>
                </Dialog.Close>
              </span>
            </form>
          ) : goes.error ? null : (
            <Loading />
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
