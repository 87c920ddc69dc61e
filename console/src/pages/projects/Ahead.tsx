/** A last look in the guide: each environment that the definition declares, with all that is made for it. */
import { useQuery } from '@tanstack/react-query';
import { costText, countText, takesText } from '../../../../src/core/ahead';
import type { DefinitionCheck, EnvironmentAhead } from '../../../../src/wire/guide';
import { post } from '../../data/api';

export function Ahead({ text, project }: { text: string; project: string }) {
  const named = /^[a-z][a-z0-9-]{0,39}$/.test(project) ? { project } : {};
  const check = useQuery({
    queryKey: ['check', text, named],
    queryFn: () => post<DefinitionCheck>('/api/definitions/check', { text, ...named }),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: (before) => before,
  });
  const { environments = [], currency = null } = check.data ?? {};
  if (environments.length === 0) return null;
  return (
    <section aria-label="What will be there" className="rounded-md border border-line px-4 py-2.5">
      <h3 className="font-semibold">What will be there</h3>
      <ul>
        {environments.map((one) => (
          <li key={one.name} className="border-b border-faint py-1.5 last:border-0">
            <p className="flex flex-wrap gap-x-3">
              <span className="font-semibold">{one.name}</span>
              <span className="text-second">{takesText(one)}</span>
              <span className="code ml-auto break-all text-second">{one.addresses.join(', ')}</span>
            </p>
            <p className="text-second">{contentText(one)}</p>
            <Cost one={one} currency={currency} />
          </li>
        ))}
      </ul>
    </section>
  );
}

function Cost({ one, currency }: { one: EnvironmentAhead; currency: string | null }) {
  const cost = costText({ ...one, currency });
  return cost ? <p className="text-second">{cost}</p> : null;
}

/** `api, a server × 2 · page, a site · notes, a database of its own` */
const contentText = ({ parts, resources }: EnvironmentAhead): string =>
  [
    ...parts.map(({ name, kind, size }) => `${name}, a ${kind}${size ? ` × ${countText(size)}` : ''}`),
    ...resources.map(({ name, kind }) => `${name}, a ${kind === 'postgres' ? 'database' : kind} of its own`),
  ].join(' · ');
