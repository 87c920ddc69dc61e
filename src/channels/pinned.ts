/** Requests to addresses of others: to the very address that was checked, whatever the name leads to by then; no redirects. */
import { wordsOf } from './words.js';
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
  body: string | Buffer;
  /** Bytes of the answer that are of interest; default none. */
  keep?: number;
  /** Certificates that it is known by instead of those of everybody (PEM). */
  authorities?: string | null;
}

/** Posts once. Any answer below 300 is taken for an acceptance; 410 says that nothing is wanted any more. */
export async function postPinned({
  url,
  address,
  headers,
  body,
  keep = 0,
  authorities = null,
}: Posted): Promise<Sent & { status?: number; text?: string }> {
  const where = new URL(url).host;
  const family = address.includes(':') ? 6 : 4;
  const agent = new Agent({
    connect: {
      timeout: connectMs,
      ...(authorities === null ? {} : { ca: authorities }),
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
    const text = keep > 0 ? await beginning(answer.body, keep) : '';
    // What it says more is of no interest, and may be without end: it is cut off, which it tells as an error.
    answer.body.on('error', () => {});
    answer.body.destroy();
    const status = answer.statusCode;
    if (status < 300) return { done: true, status, text };
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

/** The first bytes of an answer that may be without end. */
async function beginning(body: AsyncIterable<Buffer>, bytes: number): Promise<string> {
  let text = '';
  for await (const chunk of body) {
    text += chunk.toString('utf8');
    if (text.length >= bytes) break;
  }
  return text.slice(0, bytes);
}

function inWords(where: string, error: unknown) {
  const { code = '', name } = error as NodeJS.ErrnoException;
  return /TIMEOUT|ETIMEDOUT/.test(code) || name === 'TimeoutError'
    ? issue('channel_silent', { where })
    : issue('channel_refused', { where, detail: wordsOf(error) });
}
