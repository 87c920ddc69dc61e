/** The body of a request, gathered up to a bound before a program hears of it. */
import type { IncomingMessage } from 'node:http';
import { PassThrough, type Readable } from 'node:stream';

/** All of it, which may be sent twice; or a stream of what was gathered and the rest; or null where there is none. */
export type Body = Buffer | Readable | null;

/** Whether a body follows. HTTP/2 says so by leaving its stream open after the headers; a length need not be named (RFC 9113, 8.1.1). */
export const hasBody = (request: IncomingMessage): boolean => {
  const { stream } = request as unknown as { stream?: { endAfterHeaders?: boolean } };
  return stream ? stream.endAfterHeaders !== true : hasLength(request);
};

const hasLength = (request: IncomingMessage): boolean =>
  request.headers['content-length'] !== undefined
    ? request.headers['content-length'] !== '0'
    : request.headers['transfer-encoding'] !== undefined;

/** Rejects when the client goes away first. */
export function gather(request: IncomingMessage, limit: number): Promise<Body> {
  if (!hasBody(request)) return Promise.resolve(null);
  return new Promise((resolve, reject) => {
    const parts: Buffer[] = [];
    let size = 0;
    const done = () => request.off('data', take).off('end', whole).off('close', gone).off('error', gone);
    const take = (chunk: Buffer) => {
      parts.push(chunk);
      size += chunk.length;
      if (size <= limit) return;
      done();
      const rest = new PassThrough();
      rest.on('error', () => {});
      for (const part of parts) rest.write(part);
      request.on('error', (error) => rest.destroy(error));
      request.on('close', () => request.complete || rest.destroy(new Error('the client went away')));
      request.pipe(rest);
      resolve(rest);
    };
    const whole = () => {
      done();
      // A stream that was left open and has sent nothing has no body.
      resolve(size === 0 && request.headers['content-length'] === undefined ? null : Buffer.concat(parts));
    };
    const gone = () => {
      done();
      reject(new Error('the client went away'));
    };
    request.on('data', take).on('end', whole).on('close', gone).on('error', gone);
  });
}
