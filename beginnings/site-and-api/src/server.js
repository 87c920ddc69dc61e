import { createServer } from 'node:http';
import { answer } from './answer.js';
import { openNotes } from './notes.js';

const notes = openNotes(process.env.DATABASE_URL);
const most = 16 * 1024;

async function read(request) {
  let text = '';
  for await (const piece of request) {
    text += piece;
    if (text.length > most) return null;
  }
  try {
    return JSON.parse(text || 'null');
  } catch {
    return null;
  }
}

const server = createServer(async (request, response) => {
  const send = (status, body) =>
    response.writeHead(status, { 'content-type': 'application/json' }).end(`${JSON.stringify(body)}\n`);
  try {
    const { pathname } = new URL(request.url, 'http://here');
    const { status, body } = await answer(request.method, pathname, await read(request), notes);
    send(status, body);
  } catch (error) {
    console.error(error);
    send(500, { error: 'Something went wrong; the log says what.' });
  }
});
server.listen(process.env.PORT, () => console.log('ready'));

// Told to end: what is asked already is answered.
process.on('SIGTERM', () => server.close(() => notes.close().then(() => process.exit(0))));
