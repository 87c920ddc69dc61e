/** What runs here by the clock: when, how it went last, its log, and a run by hand. */
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { attemptEnded } from '../../../../src/core/states';
import type { EnvironmentDetail } from '../../../../src/wire/environments/environments';
import { paths, post } from '../../data/api';
import { useLog } from '../../data/log';
import { Ago, Button, Trouble } from '../../parts/basics';
import { Mark } from '../../parts/Mark';
import { Log } from '../runs/Log';

type Job = EnvironmentDetail['jobs'][number];

export function Jobs({ one }: { one: EnvironmentDetail }) {
  const [shown, setShown] = useState<string | null>(null);
  const job = one.jobs.find((item) => item.name === shown);
  return (
    <>
      <section className="card h-fit px-5 py-3.5" aria-label="Jobs">
        <h2 className="mb-1 font-semibold">Jobs</h2>
        {one.jobs.map((item) => (
          <Row
            key={item.name}
            at={`${paths.environment(one.project, one.name)}/jobs/${encodeURIComponent(item.name)}`}
            job={item}
            shown={shown === item.name}
            show={() => setShown(shown === item.name ? null : item.name)}
          />
        ))}
      </section>
      {job?.last ? (
        <JobLog key={job.last.attempt} attempt={job.last.attempt} failed={job.last.state === 'failed'} />
      ) : null}
    </>
  );
}

function Row({ at, job, shown, show }: { at: string; job: Job; shown: boolean; show: () => void }) {
  const client = useQueryClient();
  const act = useMutation({
    mutationFn: (verb: 'run' | 'stop') => post(`${at}/${verb}`),
    onSettled: () => client.invalidateQueries({ queryKey: ['environment'] }),
  });
  const { last } = job;
  const runs = last !== null && !attemptEnded(last.state);
  return (
    <div className="border-b border-faint py-2 last:border-0">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        {last ? <Mark state={last.state} /> : <Mark state="waiting" />}
        <span className="font-semibold">{job.name}</span>
        <span className="text-second">{job.schedule}</span>
        <span className="ml-auto flex items-center gap-2">
          {last ? (
            <Button size="compact" aria-pressed={shown} onClick={show}>
              Log
            </Button>
          ) : null}
          <Button size="compact" disabled={act.isPending} onClick={() => act.mutate(runs ? 'stop' : 'run')}>
            {runs ? 'Stop' : 'Run now'}
          </Button>
        </span>
      </div>
      <p className="text-second">
        {last ? (
          <>
            {runs ? 'runs since ' : `${last.state} `}
            <Ago at={last.endedAt ?? last.startedAt ?? last.createdAt} />
          </>
        ) : (
          'has not run yet'
        )}
        {` · next ${new Date(job.nextAt).toLocaleString([], { dateStyle: 'medium', timeStyle: 'short' })}`}
        {job.missed ? <span className="text-ochre"> · missed {job.missed} times</span> : null}
      </p>
      {last?.issue ? (
        <p className="text-vermilion">
          {last.issue.says} <span className="text-second">{last.issue.next}</span>
        </p>
      ) : null}
      {act.error ? <Trouble error={act.error} /> : null}
    </div>
  );
}

function JobLog({ attempt, failed }: { attempt: string; failed: boolean }) {
  const log = useLog(`/api/attempts/${attempt}/log`);
  return (
    <Log
      lines={log.lines}
      over={log.over}
      opening={failed}
      line={null}
      point={null}
      download={`/api/attempts/${attempt}/log/text`}
    />
  );
}
