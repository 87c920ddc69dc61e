/** Passes connections on: relay.mjs FROM TO READY, the first two `tcp:ADDRESS:PORT` or `unix:PATH`, the last a file that is made when it listens. For machines on which pasta can't start. */
import { rmSync, writeFileSync } from 'node:fs';
import { connect, createServer } from 'node:net';

const place = (text) => {
  if (text.startsWith('unix:')) return { path: text.slice(5) };
  const at = text.lastIndexOf(':');
  return { host: text.slice(4, at), port: Number(text.slice(at + 1)) };
};
const [from, to] = process.argv.slice(2, 4).map(place);
if (from.path) rmSync(from.path, { force: true });
createServer({ allowHalfOpen: true }, (incoming) => {
  const outgoing = connect({ ...to, allowHalfOpen: true });
  incoming.pipe(outgoing).pipe(incoming);
  incoming.on('error', () => outgoing.destroy());
  outgoing.on('error', () => incoming.destroy());
}).listen(from, () => writeFileSync(process.argv[4], ''));
