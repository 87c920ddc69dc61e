/** Rules that main declares less strictly than they count: a releaser accepts that, or leaves it. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { atLeast } from '../../../../src/core/states';
import type { EnvironmentRules } from '../../../../src/wire/environments/rules';
import type { Me } from '../../../../src/wire/people';
import { get, paths, post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';

export function Loosened({ rules }: { rules: EnvironmentRules }) {
  const client = useQueryClient();
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  const act = useMutation({
    mutationFn: () =>
      post(`${paths.environment(rules.project, rules.environment)}/rules`, { commit: rules.definition }),
    onSettled: () => client.invalidateQueries({ queryKey: ['promotion', rules.project, rules.environment] }),
  });
  if (rules.loosened.length === 0) return null;
  return (
    <section className="card mb-3.5 border-ochre px-5 py-3.5" aria-label="Rules that main loosens">
      <h2 className="mb-1 font-semibold">Main asks for less now; what counts has stayed</h2>
      <ul className="mb-2 text-second">
        {rules.loosened.map(({ says }) => (
          <li key={says}>{says}</li>
        ))}
      </ul>
      {act.error ? <Trouble error={act.error} /> : null}
      {me.data?.role && atLeast(me.data.role, 'releaser') ? (
        <Button size="compact" disabled={act.isPending} onClick={() => act.mutate()}>
          Accept what main declares
        </Button>
      ) : (
        <p className="text-[13px] text-second">A releaser may accept it.</p>
      )}
    </section>
  );
}
