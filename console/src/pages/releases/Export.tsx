/** How a release leaves the house, and how whoever gets it checks it. */
import type { ReleaseDetail } from '../../../../src/wire/releases';
import { paths } from '../../data/api';

export function Export({ one }: { one: ReleaseDetail }) {
  const file = `${one.project}-r${one.number}.tar`;
  return (
    <section className="card px-5 py-3.5" aria-label="Export">
      <h2 className="mb-1 font-semibold">Export</h2>
      {one.imported ? (
        <p className="text-second">
          It was made at {one.imported.service}: pass on the file that it came in. This service cannot say how it was
          made.
        </p>
      ) : one.kept ? (
        <>
          <p className="text-second">
            A file with each part as an ordinary image, its evidence and how it was made, signed by this service.
          </p>
          <p className="my-2 flex flex-wrap items-center gap-3">
            <a
              href={`${paths.project(one.project)}/releases/${one.number}/image`}
              download={file}
              className="rounded-md border border-line bg-sheet px-3.5 py-1 font-semibold text-ink no-underline hover:bg-faint"
            >
              Download {file}
            </a>
            <a href="/api/keys/releases" download="keys.json" className="text-indigo">
              Keys to check it with
            </a>
          </p>
          <pre className="code rounded-md bg-faint px-3 py-2 whitespace-pre-wrap">
            tsunagi release verify {file} --key keys.json
          </pre>
        </>
      ) : (
        <p className="text-ochre">Its bytes are let go: its commit makes them anew.</p>
      )}
    </section>
  );
}
