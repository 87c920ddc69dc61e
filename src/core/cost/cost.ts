/** What environments cost: what they took of memory and processor, at the prices that an owner has set. */

export interface Prices {
  /** ISO 4217: `EUR` */
  currency: string;
  /** Of one GiB for an hour. */
  memory: number;
  /** Of one core for an hour. */
  cpu: number;
}

/** What was taken in a span. */
export interface Taken {
  /** GiB × hours: of each hour the most that was taken together. */
  memory: number;
  /** Cores × hours. */
  cpu: number;
}

const hourMs = 3_600_000;

export const costOf = (taken: Taken, prices: Prices): number => taken.memory * prices.memory + taken.cpu * prices.cpu;

/** Begin and end of the month (UTC) of a moment, in milliseconds since the epoch. */
export function monthOf(now: number): { from: number; until: number } {
  const at = new Date(now);
  return {
    from: Date.UTC(at.getUTCFullYear(), at.getUTCMonth(), 1),
    until: Date.UTC(at.getUTCFullYear(), at.getUTCMonth() + 1, 1),
  };
}

/**
 * What a month will come to, if it goes on as it went since there was something to count.
 * @param soFar of the month
 * @param since when it began, or the month's beginning; milliseconds
 * @param counted until when it is counted
 */
export function forecast(soFar: number, since: number, counted: number, until: number): number {
  const hours = Math.max(1, (counted - since) / hourMs);
  return soFar + (soFar / hours) * Math.max(0, (until - counted) / hourMs);
}

/**
 * What the sleep of a review has saved: the hours in which nothing of it ran, at the price of the mean hour in which something did.
 * An hour in which it was awake for a moment counts as awake.
 * @param soFar what it has cost
 * @param hours in which something of it ran
 * @param since the first of them, milliseconds
 * @param until when it was counted, or closed, milliseconds
 */
export function savedBySleep(soFar: number, hours: number, since: number, until: number): number {
  if (hours <= 0) return 0;
  return (soFar / hours) * Math.max(0, (until - since) / hourMs - hours);
}

/** `12.40 EUR`; four digits where it is less than one. */
export const moneyText = (amount: number, currency: string): string =>
  `${amount.toFixed(amount < 1 ? 4 : 2)} ${currency}`;
