/** Passes a request on to an instance. A request that no instance has begun to answer, and that may be repeated, goes to the next one. */
import type { IncomingMessage, ServerResponse } from 'node:http';
import { Agent, type Dispatcher } from 'undici';
import { randomUUID } from 'node:crypto';
import type { ServerPath } from '../core/cutover/route.js';
import { openTally } from '../core/tally.js';
import { type Body, gather } from './body.js';
import type { EdgeBounds } from './bounds.js';
import type { Note } from './count.js';
import { answerHeaders, busyText, endedText, lateText, nobodyText } from './answer.js';
import { forwarded, originOf, refuse } from './headers.js';
import { makeHttp2Proxy } from './http2.js';
import { stuckTo } from './sticky.js';

export type Instance = ServerPath['instances'][number];

export interface ServerProxy {
  /** `asked` is the path and search that the program sees. */
  pass(path: ServerPath, asked: string, request: IncomingMessage, response: ServerResponse, note: Note): void;
  /** Takes the instance that the visitor stays with, or else one that has room, in turn, until the returned function is called; null when none has. */
  take(path: ServerPath, request: IncomingMessage): { instance: Instance; give: () => void } | null;
  close(): Promise<void>;
}

/** Milliseconds for which an instance that refused a connection is asked after all others. */
const silentMs = 2_000;

const repeatable = new Set(['GET', 'HEAD', 'OPTIONS', 'PUT', 'DELETE']);

export function makeProxy(bounds: EdgeBounds): ServerProxy {
  const dispatcher = new Agent({
    connections: bounds.perInstance,
    pipelining: 1,
    keepAliveTimeout: 4_000,
    connect: { timeout: 2_000 },
    headersTimeout: bounds.answerMs,
    bodyTimeout: 0,
  });
  let turn = 0;
  /** Where nobody has answered a moment ago → until when it is asked last. Milliseconds of a clock that nobody sets. */
  const silent = new Map<string, number>();
  const hush = (instance: Instance): void => {
    const now = performance.now();
    for (const [origin, until] of silent) if (until < now) silent.delete(origin);
    silent.set(originOf(instance), now + silentMs);
  };
  const isSilent = (instance: Instance): boolean => (silent.get(originOf(instance)) ?? 0) > performance.now();
  const open = openTally(bounds.perInstance);
  const enter = (instance: Instance) => open.enter(originOf(instance));
  const order = (path: ServerPath, request: IncomingMessage) => {
    turn = (turn + 1) % 1_000_000;
    const inTurn = path.instances.map((_, at) => path.instances[(turn + at) % path.instances.length] as Instance);
    if (silent.size) inTurn.sort((a, b) => Number(isSilent(a)) - Number(isSilent(b)));
    const stuck = path.sticky === null ? null : stuckTo(path.sticky, request.headers.cookie, inTurn);
    return stuck && !isSilent(stuck) ? [stuck, ...inTurn.filter((one) => one !== stuck)] : inTurn;
  };

  const http2 = makeHttp2Proxy({ order, enter });

  const send = (
    path: ServerPath,
    asked: string,
    request: IncomingMessage,
    body: Body,
    response: ServerResponse,
    note: Note,
  ): void => {
    const method = (request.method ?? 'GET') as Dispatcher.HttpMethod;
    const id = randomUUID();
    const headers = forwarded(request, id);
    const instances = order(path, request);
    const mayRepeat = repeatable.has(method) && (body === null || Buffer.isBuffer(body));
    let at = 0;
    let again = false;
    // An answer of HTTP/2 has no `destroyed`: only its end tells that the client has gone. Nothing is sent after that.
    let gone = response.destroyed === true;
    response.once('close', () => {
      gone = true;
    });
    const next = () => {
      if (gone) return;
      for (let busy = false; ; busy = true) {
        const instance = instances[at++];
        if (!instance) {
          note.unanswered = true;
          return refuse(response, 503, busy ? busyText : nobodyText);
        }
        const give = enter(instance);
        if (give) return dispatch(instance, give);
      }
    };
    const dispatch = (instance: Instance, give: () => void): void => {
      note.instance = instance.id;
      let begun = false;
      let abort: (() => void) | null = null;
      const onClose = () => abort?.();
      const over = () => {
        response.off('close', onClose);
        give();
      };
      const handler: Dispatcher.DispatchHandler = {
        onRequestStart(controller) {
          abort = () => controller.abort(new Error('the reader went away'));
          if (gone) abort();
          else response.once('close', onClose);
        },
        onResponseStart(controller, status, incoming) {
          if (status === 103 && incoming.link !== undefined) response.writeEarlyHints({ link: [incoming.link].flat() });
          if (status < 200) return;
          begun = true;
          note.answeredAt = performance.now();
          note.kind = String(incoming['content-type'] ?? '');
          response.writeHead(status, answerHeaders(path, instance, request, incoming, id, note.cookie));
          response.on('drain', () => controller.resume());
        },
        onResponseData(controller, chunk) {
          note.bytes += chunk.length;
          note.digest?.update(chunk);
          // A short answer to a slow reader waits here, not in the program.
          if (!response.write(chunk) && response.writableLength > bounds.buffered) controller.pause();
        },
        onResponseEnd() {
          over();
          response.end();
        },
        onResponseError(_controller, error) {
          over();
          if (gone) return;
          if (begun || response.headersSent) {
            note.unanswered = true;
            return void response.destroy(error);
          }
          const { code } = error as NodeJS.ErrnoException;
          // It is working on it still, and would be asked for the same a second time.
          if (code === 'UND_ERR_HEADERS_TIMEOUT') {
            note.unanswered = true;
            return refuse(response, 504, lateText);
          }
          const refused = code === 'ECONNREFUSED' || code === 'UND_ERR_CONNECT_TIMEOUT';
          if (refused) hush(instance);
          // Refused: not a byte has reached a program. Cut off: it may be repeated where method and body allow it.
          if (at < instances.length && (mayRepeat || (refused && !isStream(body)))) return next();
          if (mayRepeat && !refused && !again) {
            again = true;
            const once = enter(instance);
            if (once) return dispatch(instance, once);
          }
          note.unanswered = true;
          refuse(response, 502, endedText);
        },
      };
      try {
        dispatcher.dispatch(
          {
            origin: originOf(instance),
            path: asked,
            method,
            headers,
            body,
            ...(body === null ? { reset: false } : {}),
          },
          handler,
        );
      } catch (error) {
        over();
        throw error;
      }
    };
    next();
  };

  return {
    pass(path, asked, request, response, note) {
      if (path.http2) return http2.pass(path, asked, request, response, note);
      gather(request, bounds.buffered)
        .then((body) => send(path, asked, request, body, response, note))
        // The client has gone, or what it wrote can't be sent on.
        .catch(() =>
          request.destroyed ? response.destroy() : refuse(response, 400, 'This request cannot be passed on.'),
        );
    },
    take(path, request) {
      for (const instance of order(path, request)) {
        const give = enter(instance);
        if (give) return { instance, give };
      }
      return null;
    },
    close() {
      http2.close();
      return dispatcher.destroy();
    },
  };
}

const isStream = (body: Body): boolean => body !== null && !Buffer.isBuffer(body);
