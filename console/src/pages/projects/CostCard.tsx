/** What a project's environments have cost this month, what it will come to, and what reuse has saved; owners set the prices. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { moneyText } from '../../../../src/core/cost/cost';
import { atLeast } from '../../../../src/core/states';
import type { Cost, PricesBody } from '../../../../src/wire/environments/cost';
import type { Me } from '../../../../src/wire/people';
import { get, post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { Fold, Text } from '../../parts/fields';

/** Of one project, or (`null`) of all. */
export const useCost = (project: string | null) =>
  useQuery({
    queryKey: ['cost', project ?? ''],
    queryFn: () => get<Cost>(`/api/cost${project === null ? '' : `?project=${encodeURIComponent(project)}`}`),
    // It is counted once an hour.
    staleTime: 600_000,
  });

export function CostCard({ project }: { project: string }) {
  const cost = useCost(project);
  const me = useQuery({ queryKey: ['me'], queryFn: () => get<Me>('/api/me') });
  if (!cost.data) return null;
  const { prices, items, saved } = cost.data;
  const money = (amount: number | null) => (prices && amount !== null ? moneyText(amount, prices.currency) : '');
  const owner = me.data?.role ? atLeast(me.data.role, 'owner') : false;
  if (!prices && !owner) return null;
  return (
    <section className="card px-4 py-3" aria-label="Cost">
      <h2 className="mb-1.5 text-[15px] font-semibold">Cost this month</h2>
      <table className="w-full text-left">
        <tbody>
          {items.map((one) => (
            <tr key={one.environment}>
              <th scope="row" className="py-0.5 font-normal">
                {one.environment}
              </th>
              <td className="text-right">{money(one.soFar)}</td>
              <td className="text-right text-second">{prices ? `→ ${money(one.forecast)}` : ''}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {items.length === 0 ? <p className="text-second">Nothing is counted yet; it is once an hour.</p> : null}
      {saved.map((one) => (
        <p key={one.project} className="text-second">
          {one.tasks} tasks were reused: {one.hours.toFixed(2)} hours of work not done again
          {one.amount === null ? '' : `, ${money(one.amount)}`}.
        </p>
      ))}
      {owner ? <Prices now={prices} /> : null}
    </section>
  );
}

function Prices({ now }: { now: Cost['prices'] }) {
  const client = useQueryClient();
  const [memory, setMemory] = useState(String(now?.memory ?? ''));
  const [cpu, setCpu] = useState(String(now?.cpu ?? ''));
  const [currency, setCurrency] = useState(now?.currency ?? 'EUR');
  const set = useMutation({
    mutationFn: () => post<object>('/api/prices', { memory: Number(memory), cpu: Number(cpu), currency } as PricesBody),
    onSuccess: () => client.invalidateQueries({ queryKey: ['cost'] }),
  });
  const right = (text: string) => text.trim() !== '' && Number.isFinite(Number(text)) && Number(text) >= 0;
  return (
    <Fold className="mt-1 text-second" title={now ? 'Prices' : 'Set prices'}>
      <form
        className="mt-2 flex flex-col gap-2 text-ink"
        onSubmit={(event) => {
          event.preventDefault();
          set.mutate();
        }}
      >
        <Text label="One GiB for an hour" value={memory} set={setMemory} inputMode="decimal" placeholder="0.004" />
        <Text label="One core for an hour" value={cpu} set={setCpu} inputMode="decimal" placeholder="0.03" />
        <Text label="Currency" value={currency} set={setCurrency} maxLength={3} />
        <span>
          <Button
            type="submit"
            disabled={set.isPending || !right(memory) || !right(cpu) || !/^[A-Z]{3}$/.test(currency)}
          >
            Set for all projects
          </Button>
        </span>
        {set.error ? <Trouble error={set.error} /> : null}
      </form>
    </Fold>
  );
}

/** The same of one environment, as a line. */
export function CostLine({ project, environment }: { project: string; environment: string }) {
  const cost = useCost(project);
  const one = cost.data?.items.find((item) => item.environment === environment);
  const prices = cost.data?.prices;
  if (!one || !prices || one.soFar === null || one.forecast === null) return null;
  return (
    <p className="mb-3.5 text-second">
      This month it has cost {moneyText(one.soFar, prices.currency)} so far, and will come to{' '}
      {moneyText(one.forecast, prices.currency)}.
    </p>
  );
}
