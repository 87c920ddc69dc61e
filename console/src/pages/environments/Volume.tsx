/** Where the files of a volume are, and how full it is. */
import { nearlyFull, shareOf } from '../../../../src/core/advance/chores';
import { bytesText } from '../../../../src/core/sizes';
import type { VolumeView } from '../../../../src/wire/environments/resources';

/** `1.2 GiB of 2.0 GiB`, with a bar. */
export function Fill({ volume: { used, size } }: { volume: VolumeView }) {
  const share = shareOf(used, size);
  if (share === null || used === null || size === null) return null;
  const full = share >= nearlyFull;
  const percent = Math.min(100, Math.floor(share * 100));
  return (
    <span className="inline-flex items-center gap-2">
      <span
        role="meter"
        aria-label="How full it is"
        aria-valuemin={0}
        aria-valuemax={100}
        aria-valuenow={percent}
        className="inline-block h-2 w-28 overflow-hidden rounded-sm border border-line"
      >
        <span className={`block h-full ${full ? 'bg-vermilion' : 'bg-indigo'}`} style={{ width: `${percent}%` }} />
      </span>
      <span className={full ? 'text-vermilion' : 'text-second'}>
        {bytesText(used)} of {bytesText(size)}, {percent} % full
      </span>
    </span>
  );
}

export function Place({ volume }: { volume: VolumeView }) {
  const { agent, alive, hold, left, path } = volume;
  const share = shareOf(volume.used, volume.size);
  return (
    <div className="border-b border-faint px-5 py-2">
      <p>
        Programs find it at <code>{path}</code>
        {agent === null ? '; no agent has it yet.' : `, on the machine of ${agent}: what uses it runs there.`}
      </p>
      {agent === null || alive ? null : (
        <p className="text-vermilion">
          {agent} gives no sign of life: what uses the volume waits for it. If that machine is lost, restore a backup on
          another one.
        </p>
      )}
      {share !== null && share >= nearlyFull ? (
        <p className="text-vermilion">
          It is nearly full: a larger <code>size</code> in the definition makes room.
        </p>
      ) : null}
      {hold === 'counting' ? (
        <p className="text-ochre">Its size is counted, and holds nobody up: its agent can’t mount file systems.</p>
      ) : null}
      {left.map((one) => (
        <p key={one.agent} className="text-second">
          What was there before is on {one.agent} still{one.used === null ? '' : ` (${bytesText(one.used)})`}: it is
          backed up, then removed{one.alive ? '' : ', when that agent is back'}.
        </p>
      ))}
    </div>
  );
}
