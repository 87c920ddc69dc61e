/** How long to wait before something that failed is tried again: twice as long each time, up to a limit. All in milliseconds. */
interface Backoff {
  first: number;
  most: number;
}

const waits = {
  /** A loop of the engine whose step failed. */
  loop: { first: 100, most: 5_000 },
  /** A row of the engine's work list whose work failed. */
  row: { first: 250, most: 60_000 },
  /** An agent or edge that the service does not answer. */
  poll: { first: 100, most: 1_000 },
  /** One call of an agent or edge. */
  call: { first: 50, most: 1_000 },
  /** An event of a code host that could not be worked in. */
  intake: { first: 250, most: 60_000 },
  /** What is told to others: a code host, a webhook, a mail server. */
  delivery: { first: 1_000, most: 600_000 },
  /** A source that is looked at regularly. */
  source: { first: 60_000, most: 3_600_000 },
  /** An instance that ended without being told to. */
  restart: { first: 500, most: 60_000 },
  /** A server that does not make, end or remove what an environment has there. */
  resource: { first: 500, most: 60_000 },
  /** A name's proof that is looked for. */
  proof: { first: 5_000, most: 600_000 },
  /** A certificate that is asked for. */
  certificate: { first: 10_000, most: 6 * 3_600_000 },
} as const satisfies Record<string, Backoff>;

/** @param failures how often it has failed in a row; 1 after the first time */
export function backoff(what: keyof typeof waits, failures: number): number {
  const { first, most } = waits[what];
  return Math.min(most, first * 2 ** Math.min(30, Math.max(0, failures - 1)));
}
