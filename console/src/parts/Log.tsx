/** A log: numbered, virtual, with the terminal's colours, opened at the first error. */
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useMemo, useRef, useState } from 'react';
import { firstError, type LogLine } from '../data/log';
import { Button } from './basics';

const lineHeight = 20;

export function Log({ lines, over, opening }: { lines: LogLine[]; over: boolean /** Scroll to the first error. */; opening: boolean }) {
  const box = useRef<HTMLDivElement>(null);
  const [wrap, setWrap] = useState(false);
  const [following, setFollowing] = useState(true);
  const error = useMemo(() => (opening ? firstError(lines) : -1), [lines, opening]);
  const rows = useVirtualizer({ count: lines.length, getScrollElement: () => box.current, estimateSize: () => lineHeight, overscan: 30 });
  const opened = useRef(false);

  useEffect(() => {
    if (lines.length === 0) opened.current = false;
    if (error >= 0 && !opened.current && over) {
      opened.current = true;
      setFollowing(false);
      rows.scrollToIndex(Math.max(0, error - 6), { align: 'start' });
    } else if (following && !over && lines.length) rows.scrollToIndex(lines.length - 1);
  }, [lines.length, error, over, following, rows]);

  return (
    <section className="card flex min-h-0 flex-col overflow-hidden" aria-label="Log">
      <header className="flex items-center gap-3 border-b border-faint px-4 py-2.5">
        {error >= 0 ? (
          <>
            <button
              type="button"
              onClick={() => rows.scrollToIndex(Math.max(0, error - 6), { align: 'start' })}
              className="cursor-pointer rounded bg-vermilion-wash px-1.5 py-px text-[12px] font-medium text-vermilion"
            >
              line {error + 1}
            </button>
            <span className="text-second">first error</span>
          </>
        ) : (
          <span className="text-second">{lines.length === 0 ? (over ? 'It printed nothing.' : 'Nothing printed yet.') : `${lines.length} lines`}</span>
        )}
        <span className="ml-auto flex gap-2">
          <Button className="!px-2 !py-0.5 text-[13px]" aria-pressed={wrap} onClick={() => setWrap(!wrap)}>
            Wrap
          </Button>
        </span>
      </header>
      {/* A box that scrolls must be reached by the keyboard. */}
      <div
        ref={box}
        tabIndex={0}
        role="region"
        aria-label="Lines of the log"
        className="min-h-[27rem] flex-1 basis-0 overflow-auto py-2"
        onWheel={() => setFollowing(false)}
      >
        <div style={{ height: rows.getTotalSize(), position: 'relative', minWidth: '100%' }}>
          {rows.getVirtualItems().map((row) => {
            const line = lines[row.index] as LogLine;
            const bad = error >= 0 && row.index === error;
            return (
              <div
                key={row.key}
                ref={wrap ? rows.measureElement : undefined}
                data-index={row.index}
                style={{ position: 'absolute', top: 0, left: 0, width: '100%', transform: `translateY(${row.start}px)` }}
                className={`code flex text-[12.5px] leading-5 ${bad ? 'bg-vermilion-wash' : ''}`}
              >
                <span className="w-14 flex-none pr-4 text-right text-third select-none">{row.index + 1}</span>
                <span className={wrap ? 'pr-4 break-all whitespace-pre-wrap' : 'whitespace-pre'}>{coloured(line.text)}</span>
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}

const shades: Record<number, string> = {
  31: 'text-vermilion',
  91: 'text-vermilion',
  32: 'text-moss',
  92: 'text-moss',
  33: 'text-ochre',
  93: 'text-ochre',
  34: 'text-indigo',
  94: 'text-indigo',
  36: 'text-indigo',
  96: 'text-indigo',
  90: 'text-second',
};

/** Select Graphic Rendition (ECMA-48, 8.3.117) for weight and the eight colours; every other sequence is dropped. */
function coloured(text: string): React.ReactNode {
  if (!text.includes('\u001b')) return text.replace(/\r/g, '');
  const parts: React.ReactNode[] = [];
  let style = '';
  let weight = '';
  let from = 0;
  // biome-ignore lint/suspicious/noControlCharactersInRegex: these are the terminal's own
  for (const match of text.matchAll(/\u001b\[([0-9;?]*)([A-Za-z])/g)) {
    if (match.index > from)
      parts.push(
        <span key={from} className={`${style} ${weight}`}>
          {text.slice(from, match.index)}
        </span>,
      );
    from = match.index + match[0].length;
    if (match[2] !== 'm') continue;
    for (const code of (match[1] || '0').split(';').map(Number)) {
      if (code === 0) [style, weight] = ['', ''];
      else if (code === 1) weight = 'font-semibold';
      else if (code === 22) weight = '';
      else if (code === 39) style = '';
      else if (shades[code]) style = shades[code];
    }
  }
  if (from < text.length)
    parts.push(
      <span key={from} className={`${style} ${weight}`}>
        {text.slice(from)}
      </span>,
    );
  return parts;
}
