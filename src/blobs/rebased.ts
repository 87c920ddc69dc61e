/** A tar whose files lie in another folder. */
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { pack } from 'tar-stream';
import { type LayerEntry, modeOf, readLayer } from './layer.js';

/**
 * What lies in the folder `from` of a tar, in the folder `to` of another; empty: the tar's own folder. What lies elsewhere is left out,
 * and so are owners and all rights but who may execute. Ends with what `readLayer` throws where the bytes are no safe layer.
 */
export function rebased(tar: Readable, { from = '', to = '' }: { from?: string; to?: string }): Readable {
  const moved = (path: string): string | null => {
    const below =
      from === '' || path === from
        ? path.slice(from.length)
        : path.startsWith(`${from}/`)
          ? path.slice(from.length + 1)
          : null;
    return below === null ? null : [to, below].filter((one) => one !== '').join('/');
  };
  const out = pack();
  const headerOf = (entry: LayerEntry, name: string) => ({
    name: entry.kind === 'directory' ? `${name}/` : name,
    type: entry.kind,
    size: entry.kind === 'file' ? entry.size : 0,
    mode: modeOf(entry),
    mtime: entry.mtime,
    // A second name is of a file in here; what another link leads to is read from where it stands.
    linkname: entry.kind === 'link' ? (moved(entry.target) ?? entry.target) : entry.target,
  });
  if (to !== '') out.entry({ name: `${to}/`, type: 'directory', mode: 0o755 });
  readLayer(tar, async (entry, body) => {
    const name = moved(entry.path);
    if (!name || (entry.kind === 'directory' && name === to)) return void body.resume();
    if (entry.kind === 'file' && entry.size > 0) return pipeline(body, out.entry(headerOf(entry, name)) as never);
    body.resume();
    out.entry(headerOf(entry, name), '');
  }).then(
    () => out.finalize(),
    (error: Error) => out.destroy(error),
  );
  return Readable.from(out);
}
