/** cost: what environments have cost this month, what the month will come to, and what reuse has saved. */
import type { Command } from 'commander';
import { CodedError } from '../../../core/errors/errors.js';
import { moneyText } from '../../../core/cost/cost.js';
import type { Cost, PricesBody } from '../../../wire/environments/cost.js';
import { get, post } from '../../api.js';
import { faint, plain, say, table } from '../../print.js';
import { give, type Shared, shared } from '../shared.js';

interface CostOptions extends Shared {
  setMemory?: string;
  setCpu?: string;
  currency?: string;
}

export function costCommand(program: Command): void {
  shared(
    program
      .command('cost [project]')
      .description('what environments have cost this month, and what it will come to; owners set the prices'),
    'tsunagi cost sailings',
    { project: false },
  )
    .option('--set-memory <price>', 'the price of one GiB for an hour')
    .option('--set-cpu <price>', 'the price of one core for an hour')
    .option('--currency <code>', 'of the prices: EUR')
    .action(async (project: string | undefined, options: CostOptions) => {
      if (options.setMemory !== undefined || options.setCpu !== undefined || options.currency !== undefined)
        await post('/api/prices', await pricesOf(options));
      const cost = await get<Cost>(`/api/cost${project ? `?project=${encodeURIComponent(project)}` : ''}`);
      give(options, cost, show);
    });
}

/** What is left out stays as it is. */
async function pricesOf({ setMemory, setCpu, currency }: CostOptions): Promise<PricesBody> {
  const now = (await get<Cost>('/api/cost')).prices;
  const price = (text: string | undefined, before: number | undefined, option: string): number => {
    const value = text === undefined ? before : Number(text);
    if (value === undefined || !Number.isFinite(value) || value < 0 || text?.trim() === '')
      throw new CodedError('usage', { detail: `\`${option}\` wants a price, such as 0.004.`, command: 'cost' });
    return value;
  };
  return {
    currency: currency ?? now?.currency ?? 'EUR',
    memory: price(setMemory, now?.memory, '--set-memory'),
    cpu: price(setCpu, now?.cpu, '--set-cpu'),
  };
}

function show({ prices, items, saved, counted }: Cost): void {
  const money = (amount: number | null) =>
    amount === null || prices === null ? '' : moneyText(amount, plain(prices.currency));
  if (items.length === 0) say('Nothing is counted this month yet; it is once an hour.');
  else
    say(
      table(
        ['ENVIRONMENT', 'MEMORY', 'PROCESSOR', ...(prices ? ['SO FAR', 'FORECAST'] : [])],
        items.map((one) => [
          plain(`${one.project}/${one.environment}`),
          `${one.memory.toFixed(2)} GiB·h`,
          `${one.cpu.toFixed(2)} core·h`,
          ...(prices ? [money(one.soFar), money(one.forecast)] : []),
        ]),
      ),
    );
  for (const one of saved)
    say(
      `${plain(one.project)}: ${one.tasks} tasks were reused, ${one.hours.toFixed(2)} hours of work not done again${prices ? ` (${money(one.amount)})` : ''}.`,
    );
  if (prices === null)
    say(faint('No prices are set: an owner sets them with `--set-memory`, `--set-cpu` and `--currency`.'));
  else
    say(
      faint(
        `At ${prices.memory} ${plain(prices.currency)} a GiB and ${prices.cpu} ${plain(prices.currency)} a core, an hour; counted until ${counted.slice(0, 16).replace('T', ' ')} UTC.`,
      ),
    );
}
