/** What the programs of an environment print: all of them in the order in which it came in, live, narrowed by part, time and text. */
import { useQuery } from '@tanstack/react-query';
import { useDeferredValue, useEffect, useRef, useState } from 'react';
import type { EnvironmentDetail } from '../../../../src/wire/environments/environments';
import type { EnvironmentLines } from '../../../../src/wire/logs';
import { get, paths } from '../../data/api';
import { Trouble } from '../../parts/basics';
import { Choice, smallFieldLook } from '../../parts/fields';
import { coloured } from '../../parts/terminal';

const spans = [
  { value: '600000', text: 'last 10 minutes' },
  { value: '3600000', text: 'last hour' },
  { value: '21600000', text: 'last 6 hours' },
  { value: '86400000', text: 'last day' },
];
/** Milliseconds after which it is asked for again. */
const liveMs = 2_000;
const most = 1_000;

export function EnvironmentLog({ one }: { one: EnvironmentDetail }) {
  const [part, setPart] = useState('');
  const [span, setSpan] = useState('600000');
  const [text, setText] = useState('');
  const find = useDeferredValue(text);
  const box = useRef<HTMLDivElement>(null);
  const [following, setFollowing] = useState(true);
  const lines = useQuery({
    queryKey: ['log', one.project, one.name, part, span, find],
    queryFn: () => {
      const query = new URLSearchParams({
        since: new Date(Date.now() - Number(span)).toISOString(),
        limit: String(most),
        ...(part ? { part } : {}),
        ...(find ? { find } : {}),
      });
      return get<EnvironmentLines>(`${paths.environment(one.project, one.name)}/logs?${query}`);
    },
    refetchInterval: liveMs,
    placeholderData: (before) => before,
  });
  const data = lines.data;
  // biome-ignore lint/correctness/useExhaustiveDependencies: with each answer its end is shown
  useEffect(() => {
    if (following && box.current) box.current.scrollTop = box.current.scrollHeight;
  }, [data, following]);
  const programs = one.parts.filter((item) => item.kind !== 'site').map((item) => item.name);
  return (
    <section className="card" aria-label="Log">
      <header className="flex flex-wrap items-center gap-2 border-b border-faint px-4 py-2.5">
        <input
          aria-label="Find in the log"
          placeholder="Find"
          value={text}
          onChange={(event) => setText(event.target.value)}
          className={`code min-w-40 flex-1 ${smallFieldLook}`}
        />
        <Choice
          label="Part"
          value={part}
          set={setPart}
          options={[{ value: '', text: 'all parts' }, ...programs.map((name) => ({ value: name, text: name }))]}
        />
        <Choice label="Since" value={span} set={setSpan} options={spans} />
      </header>
      {lines.error && !data ? <Trouble error={lines.error} /> : null}
      {data?.more ? (
        <p className="border-b border-faint bg-ochre-wash px-4 py-1.5">
          These are the first {most} of them: choose a shorter time, or something rarer.
        </p>
      ) : null}
      {/* A box that scrolls must be reached by the keyboard. */}
      <div
        ref={box}
        tabIndex={0}
        role="region"
        aria-label="Lines of the log"
        className="code h-[28rem] overflow-auto py-2 text-[12.5px]"
        onScroll={({ currentTarget: at }) => setFollowing(at.scrollHeight - at.scrollTop - at.clientHeight < 24)}
      >
        {data?.lines.length === 0 ? <p className="px-4 font-sans text-second">Nothing was printed.</p> : null}
        {data?.lines.map((line) => (
          <div
            key={`${line.deployment} ${line.instance} ${line.line} ${line.at}`}
            className="flex gap-3 px-4 hover:bg-faint"
          >
            <span className="text-second">{new Date(line.at).toLocaleTimeString('en-GB')}</span>
            <span className="w-24 flex-none truncate text-second">{line.instance}</span>
            <span className="min-w-0 break-all whitespace-pre-wrap">{coloured(line.text)}</span>
          </div>
        ))}
      </div>
    </section>
  );
}
