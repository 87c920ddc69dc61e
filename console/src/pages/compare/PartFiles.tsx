/** Files of a part that differ, opened by whoever wants to see them. */
import { useState } from 'react';
import { bytesText } from '../../../../src/core/sizes';
import type { Comparison } from '../../../../src/wire/compare';
import { Button } from '../../parts/basics';

const tones = { added: 'text-moss', removed: 'text-vermilion', changed: 'text-ochre' } as const;

export function PartFiles({ files }: { files: NonNullable<Comparison['parts'][number]['files']> }) {
  const [open, setOpen] = useState(files.count <= 12);
  if (!open)
    return (
      <Button size="tiny" onClick={() => setOpen(true)}>
        {files.count} files differ
      </Button>
    );
  const size = (bytes: number | null) => (bytes === null ? 'none' : bytesText(bytes));
  return (
    <>
      <ul className="mt-1 max-h-72 overflow-y-auto text-[13px]">
        {files.changes.map(({ path, what, from, to }) => (
          <li key={path} className="flex gap-x-3 py-px">
            <span className={`w-16 flex-none ${tones[what]}`}>{what}</span>
            <span className="code min-w-0 break-all">{path}</span>
            <span className="ml-auto whitespace-nowrap text-second">
              {from === to ? size(to) : `${size(from)} → ${size(to)}`}
            </span>
          </li>
        ))}
      </ul>
      {files.changes.length < files.count ? (
        <p className="text-[13px] text-second">
          The first {files.changes.length} of {files.count}.
        </p>
      ) : null}
    </>
  );
}
