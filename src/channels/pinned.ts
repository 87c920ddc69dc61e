/** Requests to addresses of others: to the very address that was checked, whatever the name leads to by then; no redirects. */
import { Agent, request } from 'undici';
import type { Sent } from '../core/advance/deliveries.js';
import { issue } from '../core/errors/errors.js';

/** Milliseconds for a connection, and until the answer. */
const connectMs = 10_000;
const answerMs = 15_000;

/** Checks a host and gives the address to connect to; throws a `CodedError`. */
export type CheckHost = (host: string) => Promise<string>;

export interface Posted {
  url: string;
  /** Address to connect to. */
  address: string;
  headers: Record<string, string>;
  body: string;
}

/** Posts once. Any answer below 300 is taken for an acceptance; 410 says that nothing is wanted any more. */
export async function postPinned({ url, address, headers, body }: Posted): Promise<Sent & { status?: number }> {
  const where = new URL(url).host;
  const family = address.includes(':') ? 6 : 4;
  const agent = new Agent({
    connect: {
      timeout: connectMs,
      lookup: (_host, options, done) => (options.all ? done(null, [{ address, family }]) : done(null, address, family)),
    },
  });
  try {
    const answer = await request(url, {
      method: 'POST',
      dispatcher: agent,
      headersTimeout: answerMs,
      bodyTimeout: answerMs,
      headers,
      body,
      signal: AbortSignal.timeout(connectMs + answerMs),
    });
    // What it says more is of no interest, and may be without end: it is cut off, which it tells as an error.
    answer.body.on('error', () => {});
    answer.body.destroy();
    const status = answer.statusCode;
    if (status < 300) return { done: true, status };
    const detail = `it answered ${status}`;
    return status === 410
      ? { done: false, again: false, status, issue: issue('channel_gone', { where, detail }) }
      : { done: false, again: true, status, issue: issue('channel_refused', { where, detail }) };
  } catch (error) {
    return { done: false, again: true, issue: inWords(where, error) };
  } finally {
    await agent.destroy();
  }
}

function inWords(where: string, error: unknown) {
  const { code = '', name, message } = error as NodeJS.ErrnoException;
  return /TIMEOUT|ETIMEDOUT/.test(code) || name === 'TimeoutError'
    ? issue('channel_silent', { where })
    : issue('channel_refused', { where, detail: String(message).split('\n')[0]?.slice(0, 200) ?? '' });
}
