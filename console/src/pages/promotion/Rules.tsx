/** How every rule stands, what would change it, and who has approved. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { atLeast } from '../../../../src/core/states';
import type { Me } from '../../../../src/wire/people';
import type { Rule } from '../../../../src/wire/environments/rules';
import type { Promotion } from '../../../../src/wire/releases';
import { get, paths, post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { Mark } from '../../parts/Mark';

/** A time by the clocks of whoever looks. */
export const when = (iso: string): string =>
  new Date(iso).toLocaleString('en-GB', {
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
  });

export function Rules({ one }: { one: Promotion }) {
  return (
    <section className="card px-5 py-3.5" aria-label="Evidence">
      <h2 className="mb-1 font-semibold">Evidence and rules</h2>
      <ul>
        {one.rules.map((rule) => (
          <li key={`${rule.rule} ${rule.says}`} className="flex items-start gap-2.5 border-b border-faint py-2">
            <span className="flex h-5 items-center">
              <Mark state={rule.state} />
            </span>
            <span className="min-w-0">
              {rule.says}
              {rule.state === 'met' ? null : <Change rule={rule} />}
            </span>
            <span className="ml-auto whitespace-nowrap text-second">{rule.source}</span>
          </li>
        ))}
        <li className="flex items-center gap-2.5 py-2">
          <Mark state="passed" />
          <span>release digest</span>
          <span className="code ml-auto truncate text-second">{one.release.digest.slice(0, 23)}</span>
        </li>
      </ul>
      {one.approvals.needed > 0 ? <Approve one={one} /> : null}
    </section>
  );
}

function Change({ rule }: { rule: Rule }) {
  const words = [rule.change, rule.until && `Met by itself ${when(rule.until)}.`, rule.whom && `Needs ${rule.whom}.`];
  return <span className="block text-[13px] text-second">{words.filter(Boolean).join(' ')}</span>;
}

/** One's own approval is given and taken back; what others gave is shown. */
function Approve({ one }: { one: Promotion }) {
  const client = useQueryClient();
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const act = useMutation({
    mutationFn: (withdraw: boolean) =>
      post(`${paths.environment(one.project, one.environment)}/approvals`, {
        release: one.release.number,
        ...(withdraw ? { withdraw: true } : {}),
      }),
    onSettled: () => client.invalidateQueries({ queryKey: ['promotion', one.project, one.environment] }),
  });
  const own = one.approvals.given.find(({ by, counts }) => counts && by === me.data?.name);
  const may = me.data?.role ? atLeast(me.data.role, 'releaser') : false;
  const gone = one.approvals.given.filter(({ counts }) => !counts);
  return (
    <div className="mt-2 border-t border-faint pt-3">
      {gone.map(({ by, at, why }) => (
        <p key={`${by} ${at}`} className="text-[13px] text-second">
          {by} had approved it:{' '}
          {why === 'withdrawn' ? 'withdrawn since' : why === 'role' ? 'may not any more' : 'other bytes'}
        </p>
      ))}
      {act.error ? <Trouble error={act.error} /> : null}
      {may ? (
        <Button size="compact" disabled={act.isPending} onClick={() => act.mutate(own !== undefined)}>
          {own ? 'Take my approval back' : `Approve r${one.release.number}`}
        </Button>
      ) : (
        <p className="text-[13px] text-second">Releasers approve.</p>
      )}
    </div>
  );
}
