/** The backups of a resource, and the way back to one. */
import { useState } from 'react';
import { bytesText } from '../../../../src/core/sizes';
import type { BackupView, ResourceDetail, RestoreBody } from '../../../../src/wire/environments/resources';
import { Ago, Button } from '../../parts/basics';
import { Choice } from '../../parts/fields';
import { Mark } from '../../parts/Mark';

const marks = { asked: 'waiting', making: 'running', kept: 'passed', failed: 'failed', removed: 'skipped' };

export function Backups({
  one,
  may,
  busy,
  restore,
}: {
  one: ResourceDetail;
  may: boolean;
  busy: boolean;
  restore: (body: RestoreBody) => void;
}) {
  const [asking, setAsking] = useState<BackupView | null>(null);
  const [on, setOn] = useState<string | null>(null);
  // Where an agent is away nobody can back up what it has.
  const first = one.volume?.alive !== false;
  const place = on || (first ? (one.volume?.agent ?? null) : null);
  return (
    <div className="px-5 py-3">
      <h3 className="mb-1 font-semibold">Backups</h3>
      {one.backupList.length === 0 ? <p className="text-second">There is none yet.</p> : null}
      {asking ? (
        <div className="mb-2 rounded-md border border-vermilion px-3 py-2">
          <p>
            All that is in {one.name} gives way to backup {asking.number} of <Ago at={asking.of} />
            {first ? '; it is backed up first.' : '; it can’t be backed up before, since its agent is away.'}{' '}
            {one.volume
              ? 'Programs that use it are ended for that, and started again.'
              : 'Programs lose their sessions for a moment.'}
          </p>
          <span className="mt-2 flex flex-wrap items-center gap-2">
            {one.volume && one.volume.agents.some((agent) => agent !== one.volume?.agent) ? (
              <>
                <span className="text-second">on the machine of</span>
                <Choice
                  label="On the machine of"
                  value={place ?? ''}
                  set={setOn}
                  options={[
                    ...(place === null ? [{ value: '', text: 'choose an agent' }] : []),
                    ...one.volume.agents.map((agent) => ({ value: agent, text: agent })),
                  ]}
                />
              </>
            ) : null}
            <Button
              kind="danger"
              size="small"
              disabled={one.volume !== null && place === null}
              onClick={() => {
                restore({
                  backup: asking.number,
                  ...(first ? {} : { first: false }),
                  ...(one.volume && place !== one.volume.agent && place ? { on: place } : {}),
                });
                setAsking(null);
              }}
            >
              Restore backup {asking.number}
            </Button>
            <Button size="small" onClick={() => setAsking(null)}>
              Cancel
            </Button>
          </span>
        </div>
      ) : null}
      <table className="w-full border-collapse text-left">
        <tbody>
          {one.backupList.slice(0, 20).map((item) => (
            <tr key={item.number} className="border-b border-faint last:border-0">
              <td className="py-1.5 pr-3">
                <span className="flex items-center gap-2">
                  <Mark state={marks[item.state]} />
                  <span className="font-semibold">{item.number}</span>
                </span>
              </td>
              <td className="py-1.5 pr-3 whitespace-nowrap text-second">
                <Ago at={item.of ?? item.createdAt} /> {item.planned ? 'by plan' : `by ${item.by}`}
              </td>
              <td className="py-1.5 pr-3 whitespace-nowrap text-second">
                {item.bytes === null ? '' : bytesText(item.bytes)}
              </td>
              <td className="py-1.5 pr-3 text-second">
                {item.issue ? <span className="text-vermilion">{item.issue.says}</span> : <Tried item={item} />}
              </td>
              <td className="py-1 text-right">
                {may && item.state === 'kept' ? (
                  <Button size="tiny" disabled={busy} onClick={() => setAsking(item)}>
                    Restore …
                  </Button>
                ) : null}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Tried({ item: { tried } }: { item: BackupView }) {
  if (!tried) return null;
  if (!tried.passed) return <span className="text-vermilion">{tried.issue?.says ?? 'it could not be restored'}</span>;
  return (
    <>
      tried <Ago at={tried.at} />:{' '}
      {tried.files === null
        ? `${tried.tables ?? 0} tables, ${(tried.rows ?? 0).toLocaleString('en')} rows`
        : `${tried.files.toLocaleString('en')} files`}
    </>
  );
}
