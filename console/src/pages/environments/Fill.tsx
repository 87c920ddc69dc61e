/** How full a resource is, and what else is to be known of it. */
import { nearlyFull, shareOf } from '../../../../src/core/advance/chores';
import { fillText, type Notice, noticesOf } from '../../../../src/core/notices';
import type { Resource } from '../../../../src/wire/environments/resources';

/** `1.2 GiB of 2.0 GiB, 60 % full`, with a bar; the bytes alone where it has no size. */
export function Fill({ one: { bytes, most } }: { one: Pick<Resource, 'bytes' | 'most'> }) {
  const share = shareOf(bytes, most);
  if (bytes === null) return null;
  if (share === null) return <span className="text-second">{fillText(bytes, most)}</span>;
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
      <span className={full ? 'text-vermilion' : 'text-second'}>{fillText(bytes, most)}</span>
    </span>
  );
}

const colour: Record<Notice['tone'], string> = { plain: '', warn: 'text-ochre', bad: 'text-vermilion' };

export function Notices({ one }: { one: Resource }) {
  const list = noticesOf(one);
  if (list.length === 0) return null;
  return (
    <div className="border-b border-faint px-5 py-2">
      {list.map(({ tone, text }) => (
        <p key={text} className={colour[tone]}>
          {text}
        </p>
      ))}
    </div>
  );
}
