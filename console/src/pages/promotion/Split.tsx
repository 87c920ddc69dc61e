/** It takes a share beside what is live, for as long as wanted: which of both is better, is seen then. */
import { useMutation } from '@tanstack/react-query';
import { useNavigate } from '@tanstack/react-router';
import { useState } from 'react';
import type { Deployment } from '../../../../src/wire/environments/environments';
import type { Promotion } from '../../../../src/wire/releases';
import { paths, post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { Choice, Fold } from '../../parts/fields';

const shares = [1, 5, 10, 20, 50].map((share) => ({ value: String(share), text: `${share} %` }));

export function PromoteSplit({ one, beside }: { one: Promotion; beside: number }) {
  const { project, environment, release } = one;
  const [share, setShare] = useState('50');
  const navigate = useNavigate();
  const act = useMutation({
    mutationFn: () =>
      post<Deployment>(`${paths.environment(project, environment)}/deployments`, {
        kind: 'promote',
        release: release.number,
        split: { share: Number(share) / 100, beside },
      }),
    onSuccess: () => navigate({ to: '/$project/$environment', params: { project, environment } }),
  });
  return (
    <section className="card mb-3.5 px-5 py-3" aria-label="A share for as long as wanted">
      <Fold title="A share for as long as wanted">
        <p className="mt-1 mb-2 text-second">
          r{release.number} takes a share beside r{beside}, until somebody lets it go on or takes it back. Each visitor
          stays on one side; both sides’ figures, and which is better, stand on the page of {environment}.
        </p>
        {act.error ? <Trouble error={act.error} /> : null}
        <div className="flex flex-wrap items-end gap-3">
          <Choice label={`Share of r${release.number}`} value={share} set={setShare} options={shares} />
          <Button size="small" disabled={!one.allowed || act.isPending} onClick={() => act.mutate()}>
            Split between r{beside} and r{release.number}
          </Button>
        </div>
      </Fold>
    </section>
  );
}
