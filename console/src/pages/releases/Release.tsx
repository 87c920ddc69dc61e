/** One release: what is in it, where it is and was, what is known of it, and how it leaves the house. */
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from '@tanstack/react-router';
import { evidenceText } from '../../../../src/core/release/words';
import { bytesText } from '../../../../src/core/sizes';
import type { ReleaseDetail } from '../../../../src/wire/releases';
import { get, paths } from '../../data/api';
import { Ago, Crumbs, DeploymentLink, Loading, short, Trouble } from '../../parts/basics';
import { Chip, Mark } from '../../parts/Mark';
import { Export } from './Export';

export function ReleasePage(): React.ReactNode {
  const { project, number } = useParams({ strict: false }) as { project: string; number: string };
  const page = useQuery({
    queryKey: ['releases', project, number],
    queryFn: () =>
      get<ReleaseDetail>(`${paths.project(project)}/releases/${encodeURIComponent(number.replace(/^r/, ''))}`),
    retry: false,
  });
  const one = page.data;
  return (
    <>
      <Crumbs project={project}>releases</Crumbs>
      {page.error && !one ? <Trouble error={page.error} /> : null}
      {one ? <Whole one={one} /> : page.error ? null : <Loading />}
    </>
  );
}

function Whole({ one }: { one: ReleaseDetail }) {
  const live = [
    ...new Set(one.deployments.filter(({ state }) => state === 'live').map(({ environment }) => environment)),
  ];
  return (
    <>
      <header className="mb-4">
        <h1 className="title flex flex-wrap items-center gap-x-3">
          r{one.number}
          <span className="font-normal">{one.commit.title}</span>
          {live.map((name) => (
            <Chip key={name} tone="good">
              live in {name}
            </Chip>
          ))}
          {one.kept ? null : <Chip tone="poor">bytes let go</Chip>}
        </h1>
        <p className="text-second">
          <Made one={one} /> · <span className="code">{short(one.commit.id)}</span> by {one.commit.author} ·{' '}
          <Ago at={one.createdAt} />
        </p>
        <p
          className="code truncate text-second"
          title="What evidence and approvals are about: it stands for each byte."
        >
          {one.digest}
        </p>
      </header>
      <div className="grid items-start gap-3.5 *:min-w-0 lg:grid-cols-2">
        <div className="flex flex-col gap-3.5">
          <Parts one={one} />
          <Where one={one} />
          <Export one={one} />
        </div>
        <Evidence one={one} />
      </div>
    </>
  );
}

function Made({ one }: { one: ReleaseDetail }) {
  if (one.imported)
    return (
      <>
        made at {one.imported.service} as {one.imported.project} r{one.imported.number}, signed with{' '}
        <span className="code" title={one.imported.key}>
          {one.imported.key.slice(0, 12)}
        </span>
      </>
    );
  const place = one.pullRequest === null ? one.branch : `pr-${one.pullRequest}`;
  return (
    <>
      made by{' '}
      <Link
        to="/$project/runs/$number"
        params={{ project: one.project, number: String(one.run) }}
        className="underline"
      >
        run {one.run}
      </Link>{' '}
      of {place}
    </>
  );
}

function Parts({ one }: { one: ReleaseDetail }) {
  const all = one.parts.reduce((sum, part) => sum + part.size, 0);
  return (
    <section className="card px-5 py-3.5" aria-label="What is in it">
      <h2 className="mb-1 font-semibold">
        What is in it <span className="font-normal text-second">{bytesText(all)}</span>
      </h2>
      <ul>
        {one.parts.map((part) => (
          <li
            key={part.name}
            className="flex flex-wrap items-center gap-x-3 border-b border-faint py-1.5 last:border-0"
          >
            <span className="font-semibold">{part.name}</span>
            <span className="text-second">{part.kind}</span>
            <span className="ml-auto text-second">{bytesText(part.size)}</span>
            <span className="code text-second" title={part.digest}>
              {part.digest.slice(7, 19)}
            </span>
          </li>
        ))}
      </ul>
      {one.migrations.length ? (
        <details className="mt-1.5">
          <summary className="cursor-pointer text-second">
            {one.migrations.length} {one.migrations.length === 1 ? 'migration' : 'migrations'}
          </summary>
          <ul className="code mt-1">
            {one.migrations.map((path) => (
              <li key={path}>{path}</li>
            ))}
          </ul>
        </details>
      ) : null}
    </section>
  );
}

/** Where it is and was; each way to see what it differs in. */
function Where({ one }: { one: ReleaseDetail }) {
  return (
    <section className="card overflow-x-auto px-5 py-3.5" aria-label="Where it is and was">
      <h2 className="mb-1 font-semibold">Where it is and was</h2>
      {one.deployments.length === 0 ? <p className="text-second">Nowhere yet.</p> : null}
      <table className="w-full border-collapse text-left">
        <tbody>
          {one.deployments.map((item) => (
            <tr key={item.number} className="border-b border-faint last:border-0">
              <td className="py-1.5 pr-3 whitespace-nowrap">
                <span className="flex items-center gap-2">
                  <Mark state={item.state} />
                  <Link
                    to="/$project/$environment"
                    params={{ project: one.project, environment: item.environment }}
                    className="font-semibold no-underline hover:underline"
                  >
                    {item.environment}
                  </Link>
                </span>
              </td>
              <td className="py-1.5 pr-3">
                <DeploymentLink project={item.project} number={item.number} />
              </td>
              <td className="py-1.5 pr-3 text-second">
                {item.state}
                {item.kind === 'automatic' ? ', automatic' : `, ${item.kind} by ${item.actor}`}
                {item.failure ? <span className="block text-vermilion">{item.failure.says}</span> : null}
              </td>
              <td className="py-1.5 text-right whitespace-nowrap text-second">
                <Ago at={item.createdAt} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {one.number > 1 ? (
        <p className="mt-2">
          <Link
            to="/$project/compare"
            params={{ project: one.project }}
            search={{ from: `r${one.number - 1}`, to: `r${one.number}` }}
            className="text-indigo"
          >
            What differs from r{one.number - 1}
          </Link>
        </p>
      ) : null}
    </section>
  );
}

function Evidence({ one }: { one: ReleaseDetail }) {
  return (
    <section className="card px-5 py-3.5" aria-label="Evidence">
      <h2 className="mb-1 font-semibold">
        Evidence <span className="font-normal text-second">{one.evidence.length}</span>
      </h2>
      {one.evidence.length === 0 ? <p className="text-second">Nothing is known of it yet.</p> : null}
      <ul>
        {one.evidence.map((item) => (
          <li key={item.evidence} className="border-b border-faint py-1.5 last:border-0">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <span className="font-semibold">{item.name}</span>
              <span className="text-second">
                {item.kind}, {item.source}
              </span>
              <span className="ml-auto text-second">
                <Ago at={item.at} />
              </span>
            </div>
            <div className="flex flex-wrap gap-x-3">
              <span>{evidenceText(item)}</span>
              <span className="code ml-auto text-second" title={`Digest of this evidence: ${item.evidence}`}>
                {item.evidence.slice(7, 19)}
              </span>
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}
