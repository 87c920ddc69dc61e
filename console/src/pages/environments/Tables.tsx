/** The rows of a database, table by table and page by page: as text, read by a role that can do nothing else. */
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { bytesText } from '../../../../src/core/sizes';
import type { RowPage, TableList } from '../../../../src/wire/environments/resources';
import { get } from '../../data/api';
import { Button, Loading, Trouble } from '../../parts/basics';

interface Chosen {
  schema: string;
  name: string;
  from: number;
}

/** Rows of a page, as the service gives them. */
const pageRows = 50;

export function Tables({ path }: { path: string }) {
  const list = useQuery({ queryKey: ['tables', path], queryFn: () => get<TableList>(`${path}/tables`) });
  const [chosen, setChosen] = useState<Chosen | null>(null);
  if (list.error)
    return (
      <div className="px-5 py-3">
        <Trouble error={list.error} />
      </div>
    );
  if (!list.data) return <Loading />;
  const first = list.data.items[0];
  const now = chosen ?? (first ? { schema: first.schema, name: first.name, from: 0 } : null);
  return (
    <div className="grid border-b border-faint *:min-w-0 lg:grid-cols-[14rem_1fr]">
      <nav aria-label="Tables" className="max-h-96 overflow-y-auto border-r border-faint px-2 py-2">
        {list.data.items.length === 0 ? <p className="px-2 text-second">It has no tables.</p> : null}
        {list.data.items.map((one) => {
          const here = now?.schema === one.schema && now.name === one.name;
          return (
            <button
              key={`${one.schema}.${one.name}`}
              type="button"
              aria-pressed={here}
              onClick={() => setChosen({ schema: one.schema, name: one.name, from: 0 })}
              className={`flex w-full cursor-pointer items-baseline gap-2 rounded px-2 py-1 text-left ${here ? 'bg-indigo-wash' : 'hover:bg-faint'}`}
            >
              <span className="code min-w-0 truncate">
                {one.schema === 'public' ? one.name : `${one.schema}.${one.name}`}
              </span>
              <span className="ml-auto whitespace-nowrap text-second">{bytesText(one.bytes)}</span>
            </button>
          );
        })}
      </nav>
      {now ? <Rows path={path} now={now} go={(from) => setChosen({ ...now, from })} /> : null}
    </div>
  );
}

function Rows({ path, now, go }: { path: string; now: Chosen; go: (from: number) => void }) {
  const query = new URLSearchParams({ schema: now.schema, table: now.name, from: String(now.from) });
  const page = useQuery({
    queryKey: ['rows', path, now],
    queryFn: () => get<RowPage>(`${path}/rows?${query}`),
  });
  if (page.error)
    return (
      <div className="p-3">
        <Trouble error={page.error} />
      </div>
    );
  if (!page.data) return <Loading />;
  const { columns, rows, more } = page.data;
  return (
    <div className="px-4 py-2">
      <div className="mb-1 flex items-center gap-3">
        <h3 className="code font-semibold">{now.name}</h3>
        <span className="text-second">
          {rows.length === 0 ? 'no rows' : `rows ${now.from + 1} to ${now.from + rows.length}`}
        </span>
        <span className="ml-auto flex gap-2">
          <Button size="tiny" disabled={now.from === 0} onClick={() => go(Math.max(0, now.from - pageRows))}>
            Back
          </Button>
          <Button size="tiny" disabled={!more} onClick={() => go(now.from + pageRows)}>
            On
          </Button>
        </span>
      </div>
      <section aria-label={`Rows of ${now.name}`} tabIndex={0} className="max-h-80 overflow-auto">
        <table className="code border-collapse text-left">
          <thead>
            <tr className="border-b border-line text-second">
              {columns.map((column) => (
                <th key={column} scope="col" className="py-1 pr-5 font-medium whitespace-nowrap">
                  {column}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row, at) => (
              <tr key={String(now.from + at)} className="border-b border-faint last:border-0">
                {row.map((value, column) => (
                  <td key={columns[column]} className="max-w-80 truncate py-1 pr-5" title={value ?? 'null'}>
                    {value === null ? <span className="font-sans text-stone italic">null</span> : value}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </div>
  );
}
