/** A stream to the service, opened with the sign-in of this account. */
import { CodedError, type ErrorCode, type IssueData } from '../core/errors/errors.js';
import { dial, openStream, type Stream } from '../wire/rooms/stream.js';
import { signedIn } from './api.js';

/** Opens the stream at a path of the service. Throws what it refuses with. */
export function connect(path: string): Promise<Stream> {
  const to = signedIn();
  const url = to.url.replace(/^http/, 'ws') + path;
  return new Promise((resolve, reject) => {
    const socket = dial(url, to.token);
    const stream = openStream(socket);
    socket.once('open', () => resolve(stream));
    socket.once('unexpected-response', (_request, response) => {
      let text = '';
      response.on('data', (bytes: Buffer) => {
        text += bytes;
      });
      response.on('end', () => reject(refusal(text, to.url, response.statusCode ?? 0)));
    });
    socket.once('error', (error) =>
      reject(new CodedError('unreachable', { url: to.url, detail: `${error.message}.` }, error)),
    );
  });
}

function refusal(text: string, url: string, status: number): Error {
  try {
    const { code, data } = JSON.parse(text) as { code: ErrorCode; data?: IssueData };
    return new CodedError(code, data ?? {});
  } catch {
    return new CodedError('unreachable', { url, detail: `it answered ${status}.` });
  }
}
