/**
 * Passes a request on to an instance that speaks HTTP/2 without TLS (RFC 9113, 3.3): both ways as streams, with trailers, so that calls
 * that answer while they are asked pass. One connection to each instance carries all of its requests; one that is told to go away takes
 * no more of them.
 */
import type { IncomingMessage, ServerResponse } from 'node:http';
import {
  type ClientHttp2Session,
  type ClientHttp2Stream,
  type Http2ServerResponse,
  connect,
  constants,
  type OutgoingHttpHeaders,
} from 'node:http2';
import { randomUUID } from 'node:crypto';
import type { ServerPath } from '../core/cutover/route.js';
import { hasBody } from './body.js';
import { keepAsking, letBeSlow } from './bounds.js';
import type { Note } from './count.js';
import { answerHeaders, busyText, endedText, nobodyText } from './answer.js';
import { forwarded, isSecure, originOf, refuse } from './headers.js';

type Instance = ServerPath['instances'][number];

export interface Http2Proxy {
  pass(path: ServerPath, asked: string, request: IncomingMessage, response: ServerResponse, note: Note): void;
  close(): void;
}

/** Milliseconds in which a connection must stand, and for which one without requests is kept. */
const connectMs = 2_000;
const idleMs = 30_000;

export function makeHttp2Proxy({
  order,
  enter,
}: {
  /** Instances in the order in which they are asked. */
  order(path: ServerPath, request: IncomingMessage): Instance[];
  /** Takes one that has room, until the returned function is called. */
  enter(instance: Instance): (() => void) | null;
}): Http2Proxy {
  const sessions = new Map<string, ClientHttp2Session>();
  const sessionTo = (instance: Instance): ClientHttp2Session => {
    const origin = originOf(instance);
    const known = sessions.get(origin);
    if (known && !known.closed && !known.destroyed) return known;
    const session = connect(origin);
    const forget = () => {
      if (sessions.get(origin) === session) sessions.delete(origin);
    };
    const late = setTimeout(() => session.destroy(new Error('it did not answer')), connectMs);
    session.once('connect', () => clearTimeout(late));
    session.once('close', () => {
      clearTimeout(late);
      forget();
    });
    // Whoever has a request open on it hears of that there.
    session.on('error', forget);
    // What it began goes on; nothing is added.
    session.on('goaway', forget);
    session.setTimeout(idleMs, () => {
      forget();
      session.close();
    });
    keepAsking(session);
    session.unref();
    sessions.set(origin, session);
    return session;
  };

  return {
    pass(path, asked, request, response, note) {
      const id = randomUUID();
      const headers = headersFor(request, asked, id);
      const instances = order(path, request);
      const body = hasBody(request) && !request.readableEnded;
      letBeSlow(request);
      let left = response.destroyed === true;
      response.once('close', () => {
        left = true;
      });
      // What was begun to be sent is with one program; what has none may go to the next.
      const mayRepeat =
        !body && (request.method === 'GET' || request.method === 'HEAD' || request.method === 'OPTIONS');
      let at = 0;
      const next = (): void => {
        // The client has gone: nothing is sent for it any more.
        if (left) return;
        let busy = false;
        for (let instance = instances[at++]; instance; instance = instances[at++]) {
          const give = enter(instance);
          if (give) {
            note.instance = instance.id;
            send(instance, give);
            return;
          }
          busy = true;
        }
        nobody(busy);
      };
      const nobody = (busy: boolean): void => {
        note.unanswered = true;
        if (busy) refuse(response, 503, busyText);
        else if (instances.length) refuse(response, 502, endedText);
        else refuse(response, 503, nobodyText);
      };
      const send = (instance: Instance, give: () => void): void => {
        let stream: ClientHttp2Stream;
        try {
          stream = sessionTo(instance).request(headers, { endStream: !body });
        } catch {
          give();
          next();
          return;
        }
        let begun = false;
        const gone = () => stream.close(constants.NGHTTP2_CANCEL);
        response.once('close', gone);
        const trailers: Record<string, string> = {};
        stream.on('response', (incoming, flags) => {
          begun = true;
          note.answeredAt = performance.now();
          const status = Number(incoming[':status'] ?? 502);
          const answer = answerHeaders(path, instance, request, incoming as never, id, note.cookie);
          // An answer of headers alone stays one: what a call says of its end is in them.
          if (flags & constants.NGHTTP2_FLAG_END_STREAM && isHttp2(response) && !response.headersSent)
            response.stream.respond({ ...answer, ':status': status }, { endStream: true });
          else response.writeHead(status, answer);
        });
        stream.on('data', (chunk: Buffer) => {
          note.bytes += chunk.length;
          if (!response.write(chunk)) {
            stream.pause();
            response.once('drain', () => stream.resume());
          }
        });
        stream.on('trailers', (incoming) => {
          for (const [name, value] of Object.entries(incoming))
            if (value !== undefined && !name.startsWith(':')) trailers[name] = String(value);
        });
        stream.once('end', () => {
          // One that was reset ends, too, and is not whole.
          if (!begun || left || response.writableEnded || stream.rstCode !== constants.NGHTTP2_NO_ERROR) return;
          // Where the reader can't have any, they are left out.
          if (Object.keys(trailers).length) response.addTrailers(trailers);
          response.end();
        });
        stream.on('error', () => {});
        stream.once('close', () => {
          response.off('close', gone);
          give();
          if (left || response.writableEnded) return;
          const refused = stream.rstCode === constants.NGHTTP2_REFUSED_STREAM || stream.id === undefined;
          // Not a byte has reached a program, or nothing of it counts twice.
          if (!begun && (mayRepeat || (refused && !body)) && at < instances.length) {
            next();
            return;
          }
          note.unanswered = true;
          if (begun) return void response.destroy();
          refuse(response, 502, endedText);
        });
        if (body) {
          request.on('error', () => stream.close(constants.NGHTTP2_CANCEL));
          request.pipe(stream);
        }
      };
      next();
    },
    close() {
      for (const session of sessions.values()) session.destroy();
    },
  };
}

const isHttp2 = (response: ServerResponse): response is ServerResponse & Pick<Http2ServerResponse, 'stream'> =>
  'stream' in response;

/** As HTTP/2 has them: names in small letters, the host as authority; of `te` the one word that it knows (RFC 9113, 8.2.2). */
function headersFor(request: IncomingMessage, asked: string, id: string): OutgoingHttpHeaders {
  const headers: OutgoingHttpHeaders = {
    ':method': request.method ?? 'GET',
    ':path': asked,
    ':scheme': isSecure(request) ? 'https' : 'http',
  };
  const list = forwarded(request, id);
  for (let at = 0; at < list.length; at += 2) {
    const [name, value] = [(list[at] as string).toLowerCase(), list[at + 1] as string];
    if (name === 'host') headers[':authority'] = value;
    else {
      const before = headers[name];
      headers[name] = before === undefined ? value : [before, value].flat().map(String);
    }
  }
  if (/(^|,)\s*trailers\s*($|[,;])/i.test(String(request.headers.te ?? ''))) headers.te = 'trailers';
  return headers;
}
