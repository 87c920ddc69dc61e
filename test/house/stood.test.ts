/** Who goes on before it is recorded: what is heard in the service, and what an edge makes of it. */
import { describe, expect, it } from '@jest/globals';
import { EventEmitter } from 'node:events';
import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Route } from '../../src/core/cutover/route.js';
import { openSleepers } from '../../src/edge/reviews/asleep.js';
import { openStood } from '../../src/engine/environments/stood.js';
import type { Client } from '../../src/wire/rooms/client.js';
import type { WakeAnswer } from '../../src/wire/rooms/work.js';

const never = new AbortController().signal;

describe('programs that go on', () => {
  it('are heard by whoever listens, also of those that were told before they were asked for', async () => {
    const stood = openStood();
    const listening = stood.listen();
    stood.tell('one');
    const all = listening.all(['one', 'two'], 5_000, never);
    stood.tell('three');
    stood.tell('two');
    expect(await all).toBe(true);
    listening.close();
  });

  it('are waited for only so long, and only while somebody is there', async () => {
    const stood = openStood();
    const listening = stood.listen();
    expect(await listening.all(['one'], 10, never)).toBe(false);
    const gone = new AbortController();
    const all = listening.all(['one'], 5_000, gone.signal);
    gone.abort();
    expect(await all).toBe(false);
    expect(await listening.all(['one'], 5_000, gone.signal)).toBe(false);
    listening.close();
    stood.tell('one');
    expect(await listening.all(['one'], 10, never)).toBe(false);
  });
});

describe('an edge', () => {
  const route = (): Route => ({ environment: 'shop/on-winter', targets: [], asleep: true }) as unknown as Route;
  const request = () =>
    Object.assign(new EventEmitter(), { method: 'GET', headers: {}, socket: {}, pause() {}, resume() {} });
  const response = () => Object.assign(new EventEmitter(), { setHeader() {}, removeHeader() {} });

  it('lets those who wait go on when the programs do, by that very route alone', async () => {
    const answers: ((answer: WakeAnswer) => void)[] = [];
    let asked = 0;
    const client = {
      post: () => {
        asked++;
        return new Promise((resolve) => answers.push(resolve));
      },
    } as unknown as Pick<Client, 'post'>;
    const sleepers = openSleepers(client, 'edge-1');
    const [host, asleep] = ['on-winter-shop.review.localhost', route()];
    const gone: number[] = [];
    for (const at of [1, 2, 3])
      sleepers.meet(
        { host, route: asleep, wakes: true },
        request() as unknown as IncomingMessage,
        response() as unknown as ServerResponse,
        () => void gone.push(at),
      );
    expect([asked, gone, sleepers.stands(host, asleep)]).toEqual([1, [], false]);
    answers[0]?.({ state: 'stands', queue: 0, issue: null });
    await new Promise((resolve) => setImmediate(resolve));
    expect(gone).toEqual([1, 2, 3]);
    // A table that came since is newer than what was said of the one before: it may sleep again.
    expect([sleepers.stands(host, asleep), sleepers.stands(host, route())]).toEqual([true, false]);
    expect(asked).toBe(1);
  });
});
