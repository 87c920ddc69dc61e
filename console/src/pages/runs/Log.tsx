/** A log: numbered, virtual, with the terminal's colours, opened at the first error. */
import { bytesText } from '../../../../src/core/sizes';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useMemo, useRef, useState } from 'react';
import { firstError, type LogLine, matches } from '../../data/log';
import { Button } from '../../parts/basics';
import { coloured } from '../../parts/terminal';

const lineHeight = 20;

interface LogProps {
  lines: LogLine[];
  over: boolean;
  /** Scroll to the first error. */
  opening: boolean;
  /** The line that the address names, from 1, or null. */
  line: number | null;
  /** Puts a line into the address; null where it has no place for one. */
  point: ((line: number) => void) | null;
  /** Where the whole text is to be had, or null. */
  download: string | null;
}

export function Log({ lines, over, opening, line, point, download }: LogProps) {
  const box = useRef<HTMLDivElement>(null);
  const [wrap, setWrap] = useState(false);
  const [following, setFollowing] = useState(line === null);
  const [text, setText] = useState('');
  const [place, setPlace] = useState(0);
  const error = useMemo(() => (opening ? firstError(lines) : -1), [lines, opening]);
  const found = useMemo(() => matches(lines, text), [lines, text]);
  const named = useMemo(
    () => (line === null ? -1 : lines.findIndex((one) => one.number === line - 1 && !one.gap)),
    [lines, line],
  );
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: () => lineHeight,
    overscan: 30,
  });
  const opened = useRef(false);
  const show = (index: number) => rows.scrollToIndex(Math.max(0, index - 6), { align: 'start' });

  useEffect(() => {
    if (lines.length === 0) opened.current = false;
    const target = named >= 0 ? named : over ? error : -1;
    if (target >= 0 && !opened.current) {
      opened.current = true;
      setFollowing(false);
      rows.scrollToIndex(Math.max(0, target - 6), { align: 'start' });
    } else if (following && !over && lines.length) rows.scrollToIndex(lines.length - 1);
  }, [lines.length, named, error, over, following, rows]);

  const step = (by: number) => {
    if (!found.length) return;
    const next = (place + by + found.length) % found.length;
    setPlace(next);
    setFollowing(false);
    show(found[next] as number);
  };
  const search = (wanted: string) => {
    setText(wanted);
    setPlace(0);
    const first = matches(lines, wanted, 1)[0];
    if (first !== undefined) {
      setFollowing(false);
      show(first);
    }
  };
  return (
    <section className="card flex min-h-0 flex-col overflow-hidden" aria-label="Log">
      <header className="flex flex-wrap items-center gap-x-3 gap-y-1.5 border-b border-faint px-4 py-2">
        {error >= 0 ? (
          <button
            type="button"
            onClick={() => show(error)}
            className="cursor-pointer rounded bg-vermilion-wash px-1.5 py-px text-[12px] font-medium text-vermilion"
          >
            first error, line {(lines[error]?.number ?? 0) + 1}
          </button>
        ) : (
          <span className="text-second">{lines.length === 0 ? '' : countText(lines)}</span>
        )}
        <span className="ml-auto flex items-center gap-2">
          <input
            type="search"
            aria-label="Search in the log"
            placeholder="Search"
            value={text}
            onChange={(event) => search(event.target.value)}
            onKeyDown={(event) => event.key === 'Enter' && step(event.shiftKey ? -1 : 1)}
            className="w-36 rounded-md border border-line bg-sheet px-2 py-0.5 text-[13px]"
          />
          {text ? (
            <span className="text-[13px] whitespace-nowrap text-second" role="status">
              {found.length ? `${place + 1} of ${found.length}` : 'no match'}
            </span>
          ) : null}
          <Button size="tiny" aria-pressed={wrap} onClick={() => setWrap(!wrap)}>
            Wrap
          </Button>
          {download && lines.length ? (
            <a
              href={download}
              download
              className="rounded-md border border-line px-2 py-0.5 text-[13px] font-semibold no-underline hover:bg-faint"
            >
              Save
            </a>
          ) : null}
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
        {lines.length === 0 ? (
          <p className="px-4 text-second">{over ? 'It printed nothing.' : 'Nothing printed yet.'}</p>
        ) : null}
        <div style={{ height: rows.getTotalSize(), position: 'relative', minWidth: '100%' }}>
          {rows.getVirtualItems().map((row) => {
            const one = lines[row.index] as LogLine;
            const tone =
              row.index === named
                ? 'bg-indigo-wash'
                : row.index === error
                  ? 'bg-vermilion-wash'
                  : text && found[place] === row.index
                    ? 'bg-ochre-wash'
                    : '';
            return (
              <div
                key={row.key}
                ref={wrap ? rows.measureElement : undefined}
                data-index={row.index}
                style={{
                  position: 'absolute',
                  top: 0,
                  left: 0,
                  width: '100%',
                  transform: `translateY(${row.start}px)`,
                }}
                className={`code flex text-[12.5px] leading-5 ${tone}`}
              >
                {one.gap ? (
                  <span className="px-4 text-ochre">{`${one.gap.lines.toLocaleString('en')} lines (${bytesText(one.gap.bytes)}) are not kept: it printed more than fits`}</span>
                ) : (
                  <>
                    <button
                      type="button"
                      tabIndex={-1}
                      disabled={point === null}
                      title={point ? 'Put this line into the address' : undefined}
                      onClick={() => point?.(one.number + 1)}
                      className="w-16 flex-none cursor-pointer pr-4 text-right text-second select-none hover:text-ink"
                    >
                      {one.number + 1}
                    </button>
                    <span className={wrap ? 'pr-4 break-all whitespace-pre-wrap' : 'whitespace-pre'}>
                      {coloured(one.text)}
                    </span>
                  </>
                )}
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}

const countText = (lines: readonly LogLine[]): string => {
  const count = (lines.at(-1)?.number ?? 0) + 1;
  return count === 1 ? '1 line' : `${count.toLocaleString('en')} lines`;
};
