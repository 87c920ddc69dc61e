/** Requests that are not taken as they are: what is ambiguous, what cannot be read, what offers a protocol that is not spoken here. */
import type { IncomingMessage, Server } from 'node:http';
import type { Duplex } from 'node:stream';

/** Why a request is refused before anybody looks where it goes; null: it may go on. */
export function flawOf(request: IncomingMessage): { status: number; says: string } | null {
  const count = (name: string) =>
    request.rawHeaders.filter((one, at) => at % 2 === 0 && one.toLowerCase() === name).length;
  // Another reader on the way could take the other one (RFC 9112, 3.2).
  if (count('host') > 1 || (request.httpVersionMajor === 1 && request.httpVersionMinor === 1 && count('host') === 0))
    return { status: 400, says: 'A request names one host.' };
  const coding = request.headers['transfer-encoding'];
  // Only the last coding is undone here: a program would get the others as its body (RFC 9112, 6.1).
  if (coding !== undefined && !/^\s*chunked\s*$/i.test(coding))
    return { status: 501, says: 'The only transfer coding that is taken is chunked.' };
  return null;
}

export const asksForWebSocket = ({ headers, method }: IncomingMessage): boolean =>
  method === 'GET' && /(^|,)\s*websocket\s*(,|$)/i.test(headers.upgrade ?? '');

/** Headers that offer another protocol. */
const offers: ReadonlySet<string> = new Set(['upgrade', 'http2-settings']);

/** Gives a connection back to the server with the request as it was, but for the offer of another protocol. */
export function askAgain(server: Server, request: IncomingMessage, socket: Duplex, head: Buffer): void {
  const lines = [`${request.method} ${request.url} HTTP/${request.httpVersion}`];
  for (let at = 0; at < request.rawHeaders.length; at += 2) {
    const [name, value] = [request.rawHeaders[at] as string, request.rawHeaders[at + 1] as string];
    const lower = name.toLowerCase();
    if (offers.has(lower)) continue;
    const kept =
      lower === 'connection'
        ? value
            .split(',')
            .filter((one) => !offers.has(one.trim().toLowerCase()))
            .join(',')
        : value;
    if (kept !== '' || lower !== 'connection') lines.push(`${name}: ${kept}`);
  }
  socket.unshift(Buffer.concat([Buffer.from(`${lines.join('\r\n')}\r\n\r\n`, 'latin1'), head]));
  server.emit('connection', socket);
}

const words: Record<number, string> = {
  400: 'Bad Request',
  408: 'Request Timeout',
  431: 'Request Header Fields Too Large',
};

/** An answer to what cannot be read as a request, where the client can still hear one. */
export function answerFlaw(error: Error & { code?: string }, socket: Duplex): void {
  socket.on('error', () => {});
  if (error.code === 'ECONNRESET' || !socket.writable || (socket as { bytesWritten?: number }).bytesWritten)
    return void socket.destroy();
  const status = error.code === 'HPE_HEADER_OVERFLOW' ? 431 : error.code === 'ERR_HTTP_REQUEST_TIMEOUT' ? 408 : 400;
  socket.end(`HTTP/1.1 ${status} ${words[status]}\r\nconnection: close\r\ncontent-length: 0\r\n\r\n`, () =>
    socket.destroy(),
  );
}
