/** Two releases beside each other, as they are or as they are deployed; the address is a link to just this. */
import { useQuery } from '@tanstack/react-query';
import { useNavigate, useParams, useSearch } from '@tanstack/react-router';
import { useState } from 'react';
import { bytesText } from '../../../../src/core/sizes';
import type { Comparison } from '../../../../src/wire/compare';
import { get } from '../../data/api';
import type { Search } from '../../data/search';
import { Ago, Button, Crumbs, Loading, short, Trouble } from '../../parts/basics';
import { smallFieldLook } from '../../parts/fields';
import { Chip } from '../../parts/Mark';
import { PartFiles } from './PartFiles';
import { TextDifference } from './TextDifference';

export function ComparePage(): React.ReactNode {
  const { project } = useParams({ strict: false }) as { project: string };
  const { from = 'production', to = 'staging' } = useSearch({ strict: false }) as Search;
  const page = useQuery({
    queryKey: ['compare', project, from, to],
    queryFn: () =>
      get<Comparison>(
        `/api/projects/${encodeURIComponent(project)}/compare?from=${encodeURIComponent(from)}&to=${encodeURIComponent(to)}`,
      ),
    retry: false,
  });
  const one = page.data;
  return (
    <>
      <Crumbs project={project}>compare</Crumbs>
      <div className="mb-4 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="title">
          {from} → {to}
        </h1>
        <Sides key={`${from} ${to}`} project={project} from={from} to={to} />
      </div>
      {page.error && !one ? <Trouble error={page.error} /> : null}
      {one ? <Differences one={one} /> : page.error ? null : <Loading />}
    </>
  );
}

/** Environments (production), releases (r57) or deployments (d12). */
function Sides({ project, from, to }: { project: string; from: string; to: string }) {
  const [sides, setSides] = useState({ from, to });
  const navigate = useNavigate();
  return (
    <form
      className="ml-auto flex flex-wrap items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        navigate({ to: '/$project/compare', params: { project }, search: sides });
      }}
    >
      {(['from', 'to'] as const).map((side) => (
        <input
          key={side}
          aria-label={side === 'from' ? 'What is compared' : 'With what'}
          title="An environment (production), a release (r57) or a deployment (d12)"
          value={sides[side]}
          onChange={(event) => setSides({ ...sides, [side]: event.target.value.trim() })}
          className={`code w-32 ${smallFieldLook}`}
        />
      ))}
      <Button type="submit" size="small">
        Compare
      </Button>
    </form>
  );
}

function Differences({ one }: { one: Comparison }) {
  return (
    <>
      <section className="card mb-3.5 grid gap-x-6 px-5 py-4 sm:grid-cols-2">
        {[one.from, one.to].map((side, at) => (
          // Both may be the same.
          <p key={at === 0 ? 'from' : 'to'}>
            <span className="font-semibold">r{side.release}</span>{' '}
            <span className="text-second">
              {side.deployment === null ? '' : `d${side.deployment} `}
              {side.environment ?? ''}
            </span>
            <span className="block truncate text-second">
              <span className="code">{short(side.commit.id)}</span> {side.commit.title}
            </span>
          </p>
        ))}
      </section>
      <div className="grid gap-3.5 *:min-w-0 lg:grid-cols-2">
        <div className="flex flex-col gap-3.5">
          <Commits title="Commits that come" list={one.commits} />
          {one.lost.length ? <Commits title="Commits that go" list={one.lost} goes /> : null}
          {one.notInMain.length ? (
            <Commits title="Not in main" list={one.notInMain.map((commit) => ({ ...commit, pull: null }))} goes />
          ) : null}
        </div>
        <div className="flex flex-col gap-3.5">
          <Parts one={one} />
          <Changes title="Variables" changes={one.variables} none="The same in both.">
            Variables and sizes are those of deployments: compare environments to see them.
          </Changes>
          <Changes title="Resources" changes={one.resources} none="The same in both." />
          <Changes
            title="Migrations"
            changes={one.migrations.map(({ path, what }) => ({ name: path, what, from: null, to: null }))}
            none="None differs."
          />
          <Changes title="Sizes" changes={one.sizes} none="The same in both." />
          <Changes title="Tools" changes={one.tools} none="The same versions in both." />
        </div>
      </div>
      {one.definition ? (
        <section className="card mt-3.5 px-5 py-3.5" aria-label="Definition">
          <h2 className="mb-2 font-semibold">Definition</h2>
          <TextDifference text={one.definition} />
        </section>
      ) : null}
    </>
  );
}

function Commits({ title, list, goes = false }: { title: string; list: Comparison['commits']; goes?: boolean }) {
  const [all, setAll] = useState(false);
  const shown = all ? list : list.slice(0, 20);
  return (
    <section className="card px-5 py-3.5" aria-label={title}>
      <h2 className="mb-1 font-semibold">
        {title} <span className="font-normal text-second">{list.length}</span>
      </h2>
      {list.length === 0 ? <p className="text-second">None.</p> : null}
      <ul>
        {shown.map((commit) => (
          <li key={commit.id} className={`border-b border-faint py-1.5 last:border-0 ${goes ? 'text-vermilion' : ''}`}>
            <span className="code text-second">{short(commit.id)}</span> {commit.title}{' '}
            <span className="text-second">
              {commit.author}
              {commit.pull === null ? '' : ` · #${commit.pull}`} · <Ago at={commit.at} />
            </span>
          </li>
        ))}
      </ul>
      {shown.length < list.length ? (
        <Button size="compact" onClick={() => setAll(true)}>
          All {list.length}
        </Button>
      ) : null}
    </section>
  );
}

function Parts({ one }: { one: Comparison }) {
  return (
    <section className="card px-5 py-3.5" aria-label="Parts">
      <h2 className="mb-1 font-semibold">Parts</h2>
      {one.parts.map((part) => (
        <div key={part.name} className="border-b border-faint py-1.5 last:border-0">
          <div className="flex flex-wrap gap-x-3">
            <span className="font-semibold">{part.name}</span>
            <span className="text-second">
              {part.fromSize === part.toSize
                ? bytesText(part.toSize)
                : `${bytesText(part.fromSize)} → ${bytesText(part.toSize)}`}
            </span>
            <span className="code ml-auto text-second">
              {part.from === part.to
                ? 'same bytes'
                : `${part.from?.slice(7, 11) ?? 'none'} → ${part.to?.slice(7, 11) ?? 'none'}`}
            </span>
          </div>
          {part.files === null ? <p className="text-ochre">Its bytes are gone, on one side at least.</p> : null}
          {part.files?.count ? <PartFiles files={part.files} /> : null}
        </div>
      ))}
    </section>
  );
}

interface ShownChange {
  name: string;
  what: 'added' | 'removed' | 'changed';
  from: string | null;
  to: string | null;
  secret?: boolean;
}

function Changes({
  title,
  changes,
  none,
  children = null,
}: {
  title: string;
  changes: readonly ShownChange[] | null;
  none: string;
  children?: React.ReactNode;
}) {
  return (
    <section className="card px-5 py-3.5" aria-label={title}>
      <h2 className="mb-1 font-semibold">{title}</h2>
      {changes === null ? <p className="text-second">{children}</p> : null}
      {changes?.length === 0 ? <p className="text-second">{none}</p> : null}
      <ul>
        {changes?.map((one) => (
          <li key={one.name} className="flex flex-wrap items-center gap-x-3 border-b border-faint py-1.5 last:border-0">
            <span className="code">{one.name}</span>
            <span className="ml-auto">
              {one.from !== null || one.to !== null ? (
                <>
                  <span className="text-vermilion">{one.from ?? 'none'}</span> →{' '}
                  <span className="text-moss">{one.to ?? 'none'}</span>
                </>
              ) : (
                <Chip tone={one.what === 'changed' ? 'poor' : one.what === 'added' ? 'good' : 'failed'}>
                  {one.secret ? `secret, ${one.what}` : one.what}
                </Chip>
              )}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
