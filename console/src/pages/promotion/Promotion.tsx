/** Is it safe to promote: the evidence, what differs, one sentence, one act. */
import type { Search } from '../../data/search';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearch } from '@tanstack/react-router';
import type { Deployment } from '../../../../src/wire/environments/environments';
import type { Promotion } from '../../../../src/wire/releases';
import { get, paths, post, Refusal } from '../../data/api';
import { Ago, Button, EnvironmentCrumbs, Empty, Loading, short, Trouble } from '../../parts/basics';
import { Chip } from '../../parts/Mark';
import { Calendar } from './Calendar';
import { Loosened } from './Loosened';
import { Override } from './Override';
import { Rules, when } from './Rules';
import { PromoteSplit } from './Split';
import { Steps } from './Steps';
import { PromoteTogether } from './Together';
import { WhatWillBe } from './WhatWillBe';

export function PromotionPage(): React.ReactNode {
  const { project, environment } = useParams({ strict: false }) as { project: string; environment: string };
  const { release } = useSearch({ strict: false }) as Search;
  const navigate = useNavigate();
  const path = paths.environment(project, environment);
  const page = useQuery({
    queryKey: ['promotion', project, environment, release],
    queryFn: () => get<Promotion>(`${path}/promotion${release ? `?release=${release}` : ''}`),
  });
  const promote = useMutation({
    mutationFn: (number: number) => post<Deployment>(`${path}/deployments`, { kind: 'promote', release: number }),
    onSuccess: () => navigate({ to: '/$project/$environment', params: { project, environment } }),
  });
  const crumbs = <EnvironmentCrumbs project={project} environment={environment} />;
  if (page.error && !page.data) {
    const nothing = page.error instanceof Refusal && page.error.problem.code === 'nothing_to_promote';
    return (
      <>
        {crumbs}
        {nothing ? (
          <Empty title={(page.error as Refusal).problem.detail}>{(page.error as Refusal).problem.next}</Empty>
        ) : (
          <Trouble error={page.error} />
        )}
      </>
    );
  }
  if (!page.data) return <Loading />;
  const one = page.data;
  return (
    <>
      {crumbs}
      <div className="mb-4 flex flex-wrap items-center gap-x-3 gap-y-2">
        <h1 className="title">
          Promote r{one.release.number} to {environment}
        </h1>
        <Chip tone={one.allowed ? 'good' : 'poor'}>
          {one.allowed ? 'may be promoted' : one.until ? `waits until ${when(one.until)}` : 'cannot be promoted'}
        </Chip>
        <span className="ml-auto" />
        <Override one={one} />
        <Button
          kind="main"
          disabled={!one.allowed || promote.isPending}
          onClick={() => promote.mutate(one.release.number)}
        >
          Promote r{one.release.number}
        </Button>
      </div>
      {promote.error ? <Trouble error={promote.error} /> : null}
      <Loosened rules={one.environmentRules} />
      <section className="card mb-3.5 px-5 py-4">
        <p>{one.sentence}</p>
        {one.refusal ? (
          <p className="mt-1.5 text-ochre">
            {one.refusal.says} {one.refusal.next}
          </p>
        ) : null}
      </section>
      {one.steps.length ? <Steps steps={one.steps} /> : null}
      <PromoteTogether one={one} />
      {one.live ? <PromoteSplit one={one} beside={one.live.number} /> : null}
      <div className="grid gap-3.5 *:min-w-0 lg:grid-cols-[5fr_6fr]">
        <Rules one={one} />
        <section className="card px-5 py-3.5" aria-label={`What differs from ${environment}`}>
          <h2 className="mb-1 flex font-semibold">
            What differs from {environment}
            {one.live ? (
              <Link
                to="/$project/compare"
                params={{ project }}
                search={{ from: environment, to: `r${one.release.number}` }}
                className="ml-auto font-normal text-indigo"
              >
                all of it
              </Link>
            ) : null}
          </h2>
          <Row name="Commits">
            {one.commits.length === 0 ? <span className="text-second">no new commits</span> : null}
            <ul>
              {one.commits.map((commit) => (
                <li key={commit.id} className="py-0.5">
                  <span className="code text-second">{short(commit.id)}</span> {commit.title}{' '}
                  <span className="text-second">
                    {commit.author} · <Ago at={commit.at} />
                  </span>
                </li>
              ))}
            </ul>
          </Row>
          {one.removed.length ? (
            <Row name="Commits removed">
              <ul>
                {one.removed.map((commit) => (
                  <li key={commit.id} className="py-0.5 text-vermilion">
                    <span className="code">{short(commit.id)}</span> {commit.title}
                  </li>
                ))}
              </ul>
            </Row>
          ) : null}
          {one.migrations.length ? (
            <Row name="Migrations">
              {one.migrations.map((file) => (
                <div key={file.path} className="flex flex-wrap justify-between gap-x-4 py-0.5">
                  <span className="code">{file.path}</span>
                  <span className={file.what === 'new' ? 'text-second' : 'text-ochre'}>{file.what}</span>
                </div>
              ))}
            </Row>
          ) : null}
          <Row name="Parts">
            {one.parts.map((part) => (
              <div key={part.name} className="flex flex-wrap justify-between gap-x-4 py-0.5">
                <span className="code">{part.name}</span>
                {part.from === part.to ? (
                  <span className="text-second">same bytes</span>
                ) : (
                  <span className="code text-second">
                    {part.from ? part.from.slice(7, 11) : 'none'}… → {part.to ? `${part.to.slice(7, 11)}…` : 'none'}
                  </span>
                )}
              </div>
            ))}
          </Row>
        </section>
      </div>
      {one.environmentRules.frozen.length || one.environmentRules.freeze ? (
        <Calendar rules={one.environmentRules} />
      ) : null}
      <WhatWillBe project={project} environment={environment} release={one.release.number} />
    </>
  );
}

function Row({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div className="grid grid-cols-[6.5rem_1fr] border-b border-faint py-2 last:border-0">
      <span className="font-semibold text-second">{name}</span>
      <div className="min-w-0">{children}</div>
    </div>
  );
}
