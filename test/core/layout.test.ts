/** Exports: what is whole and vouched for, and all the ways in which one is not. */
import { createHash, createPublicKey, generateKeyPairSync } from 'node:crypto';
import { Readable } from 'node:stream';
import { describe, expect, it } from '@jest/globals';
import fc from 'fast-check';
import { pack } from 'tar-stream';
import { readExport } from '../../src/blobs/exported.js';
import { parseDefinition } from '../../src/core/definition/parse.js';
import { keyIdOf, seal } from '../../src/core/release/envelope.js';
import { releaseImage } from '../../src/core/release/image.js';
import { jwkOf, readKeys } from '../../src/core/release/keyset.js';
import { checkLayout, layoutOf, layoutText, type VerifiedExport } from '../../src/core/release/layout.js';
import { budget, mutated, patience } from '../fuzz/budget.js';
import { evidenceStatement, provenance, type ReleaseFacts } from '../../src/core/release/statements.js';

const [ours, old, theirs] = [0, 1, 2].map(() => generateKeyPairSync('ed25519').privateKey) as [never, never, never];
const publicOf = (key: never) => createPublicKey(key);
const digestOf = (bytes: Buffer | string) => `sha256:${createHash('sha256').update(bytes).digest('hex')}`;
const blobPath = (digest: string) => `blobs/sha256/${digest.slice(7)}`;

const plan = parseDefinition(
  'tsunagi: 1\nrelease:\n  parts:\n    api: { kind: server, start: node api.js, at: /api }\n    web: { kind: site, root: web }\n',
).definition?.release as never as { parts: Record<string, never> };
const layers = ['api', 'web'].map((name) => Buffer.from(`${name}.js`.padEnd(2_000, name)));

interface Options {
  key?: never;
  /** What the statements are about. */
  about?: Partial<ReleaseFacts>;
  predicate?: object;
}

/** Files of an export, by name. */
function filesOf({ key = ours, about = {}, predicate = {} }: Options = {}): Map<string, string | Buffer> {
  const image = releaseImage(
    Object.values(plan.parts).map((part, at) => ({
      part,
      layers: [
        {
          digest: digestOf(layers[at] as Buffer),
          size: layers[at]?.length as number,
          from: at ? 'task build' : 'files',
        },
      ],
    })),
    { project: 'shop', commit: 'c'.repeat(40), architecture: 'amd64' },
  );
  const sizes = new Map(image.documents.map(({ digest, text }) => [digest, Buffer.byteLength(text)]));
  const size = (digest: string) => sizes.get(digest) as number;
  const facts: ReleaseFacts = {
    project: 'shop',
    number: 7,
    digest: image.digest,
    parts: image.parts,
    commit: { id: 'c'.repeat(40), title: 'A change', author: 'Mika', at: '2026-01-01T00:00:00.000Z' },
    branch: 'main',
    pullRequest: null,
    line: 'own',
    ...about,
  };
  const made = provenance(facts, {
    service: 'https://ships.kohama.example',
    version: '0.1.0',
    source: 'git+https://code.kohama.example/shop',
    run: 3,
    startedAt: null,
    endedAt: null,
    tools: {},
  });
  const known = evidenceStatement(facts, { plan: plan as never, migrations: [], evidence: [] });
  const { index, documents } = layoutOf(
    {
      number: 7,
      digest: image.digest,
      size: size(image.digest),
      parts: image.parts.map(({ name, digest }) => ({ name, digest, size: size(digest) })),
    },
    {
      provenance: seal(made, [key]),
      evidence: seal({ ...known, predicate: { ...known.predicate, ...predicate } }, [key]),
    },
  );
  return new Map<string, string | Buffer>([
    ['oci-layout', layoutText],
    ['index.json', index],
    ...[...documents, ...image.documents].map(({ digest, text }) => [blobPath(digest), text] as const),
    ...layers.map((bytes) => [blobPath(digestOf(bytes)), bytes] as const),
  ]);
}

async function tarOf(files: Iterable<readonly [string, string | Buffer]>): Promise<Buffer> {
  const tar = pack();
  for (const [name, content] of files) tar.entry({ name, mtime: new Date(0) }, content as string);
  tar.finalize();
  const parts: Buffer[] = [];
  for await (const chunk of tar) parts.push(chunk as Buffer);
  return Buffer.concat(parts);
}

async function verify(bytes: Buffer, keys = [publicOf(ours)]): Promise<VerifiedExport> {
  const { index, blobs } = await readExport(Readable.from([bytes]));
  return checkLayout(index, blobs, keys);
}
const refused = async (files: Iterable<readonly [string, string | Buffer]>, keys?: never[]) =>
  verify(await tarOf(files), keys?.map(publicOf)).then(
    () => 'it was taken',
    (error: { issue?: { code: string; data: { why: string } } }) =>
      error.issue ? `${error.issue.code}: ${error.issue.data.why}` : `not in words: ${error}`,
  );

/** The same files with the index of the layout changed. */
function relisted(change: (manifests: Record<string, unknown>[]) => unknown): Map<string, string | Buffer> {
  const files = filesOf();
  const list = JSON.parse(files.get('index.json') as string);
  files.set('index.json', JSON.stringify({ ...list, manifests: change(list.manifests) }));
  return files;
}

/** The same with the release's index changed, and whoever names it. */
function changedRelease(change: (release: { manifests: Record<string, unknown>[] }) => void) {
  const files = filesOf();
  const list = JSON.parse(files.get('index.json') as string);
  const named = list.manifests[0] as { digest: string; size: number };
  const release = JSON.parse(files.get(blobPath(named.digest)) as string);
  files.delete(blobPath(named.digest));
  change(release);
  const text = JSON.stringify(release);
  Object.assign(named, { digest: digestOf(text), size: Buffer.byteLength(text) });
  files.set(blobPath(named.digest), text).set('index.json', JSON.stringify(list));
  return files;
}

describe('an export', () => {
  it('says what is in it, and by whose key', async () => {
    const found = await verify(await tarOf(filesOf()), [publicOf(theirs), publicOf(ours)]);
    expect(found.stated).toMatchObject({ project: 'shop', number: 7, plan, commit: { title: 'A change' } });
    expect(found.parts.map(({ name, layers: of }) => [name, of[0]?.from])).toEqual([
      ['api', 'files'],
      ['web', 'task build'],
    ]);
    expect(found.keyid).toBe(keyIdOf(publicOf(ours)));
    expect(found.documents.map(({ digest, text }) => digestOf(text) === digest)).not.toContain(false);
    expect(found.documents).toHaveLength(5);
  });

  it('is read the same from a tar with folders and names that begin with ./', async () => {
    const tar = pack();
    for (const name of ['./', './blobs/', './blobs/sha256/']) tar.entry({ name, type: 'directory' });
    for (const [name, content] of filesOf()) tar.entry({ name: `./${name}` }, content as string);
    tar.finalize();
    const parts: Buffer[] = [];
    for await (const chunk of tar) parts.push(chunk as Buffer);
    expect((await verify(Buffer.concat(parts))).stated.number).toBe(7);
  });

  it('is not taken for another one when any bit of it is changed', async () => {
    const whole = await tarOf(filesOf());
    const before = await verify(whole);
    await fc.assert(
      fc.asyncProperty(fc.nat(whole.length * 8 - 1), async (bit) => {
        const copy = Buffer.from(whole);
        copy[bit >> 3] = (copy[bit >> 3] as number) ^ (1 << (bit & 7));
        // Between files there are bytes that mean nothing.
        const after = await verify(copy).catch((error) => {
          expect(error.issue?.code).toMatch(/^export_(broken|unsigned)$/);
          return before;
        });
        expect(after).toEqual(before);
      }),
      { numRuns: 400 },
    );
  });

  it(
    'has an index that is read byte by byte: changed anywhere it is refused, by code',
    async () => {
      const files = filesOf();
      const index = Buffer.from(files.get('index.json') as string);
      await fc.assert(
        fc.asyncProperty(mutated(index), async (bytes) => {
          fc.pre(!bytes.equals(index));
          const tar = await tarOf([...files].map(([name, body]) => [name, name === 'index.json' ? bytes : body]));
          const code = await verify(tar).then(
            () => 'accepted',
            (error: { issue?: { code: string } }) => error.issue?.code ?? String(error),
          );
          expect(['export_broken', 'export_unsigned']).toContain(code);
        }),
        budget,
      );
    },
    patience,
  );

  it('is refused where it was cut off', async () => {
    const whole = await tarOf(filesOf());
    for (const length of [0, 100, 512, 3_000, whole.length - 4_000])
      await expect(verify(whole.subarray(0, length))).rejects.toMatchObject({ issue: { code: 'export_broken' } });
  });

  it.each([
    ['../../etc/passwd', /"\.\.\/\.\.\/etc\/passwd", which has no place/],
    ['/etc/passwd', /has no place/],
    ['blobs/sha256/../../x', /has no place/],
    [`blobs/sha512/${'0'.repeat(128)}`, /has no place/],
    [`blobs/sha256/${'A'.repeat(64)}`, /has no place/],
  ])('is refused with the file %s', async (name, says) => {
    expect(await refused([...filesOf(), [name, 'x']])).toMatch(says);
  });

  it('is refused with a link in it', async () => {
    const tar = pack();
    tar.entry({ name: 'index.json', type: 'symlink', linkname: '/etc/passwd' });
    tar.finalize();
    const parts: Buffer[] = [];
    for await (const chunk of tar) parts.push(chunk as Buffer);
    await expect(verify(Buffer.concat(parts))).rejects.toMatchObject({ issue: { code: 'export_broken' } });
  });

  it('is refused by keys that have not signed it, and by what another key has signed', async () => {
    expect(await refused(filesOf(), [theirs])).toMatch(/^export_unsigned: .*signed by none of them/);
    expect(await refused(filesOf({ key: theirs }))).toMatch(/^export_unsigned/);
    expect(await refused(filesOf({ key: old }), [ours, old])).toBe('it was taken');
  });

  it('is refused where what is signed is about other bytes', async () => {
    expect(await refused(filesOf({ about: { digest: digestOf('other') } }))).toMatch(/^export_unsigned: .*not about/);
    expect(await refused(filesOf({ about: { parts: [] } }))).toMatch(/^export_unsigned: .*not about/);
    expect(await refused(changedRelease((release) => void release.manifests.pop()))).toMatch(
      /^export_broken: the bytes .* are missing/,
    );
  });

  it('is refused where the index, which is not signed, is another one than follows from what is signed', async () => {
    const named = (list: Record<string, unknown>[]) =>
      list.map((one) => one as { annotations?: Record<string, string> });
    const ways: [string, Map<string, string | Buffer>][] = [
      [
        'swapped names',
        relisted((list) => {
          const all = named(list).filter(({ annotations }) => annotations);
          const [one, other] = all as [(typeof all)[0], (typeof all)[0]];
          [one.annotations, other.annotations] = [other.annotations, one.annotations];
          return list;
        }),
      ],
      ['another order', relisted((list) => [...list].reverse())],
      [
        'one more annotation',
        relisted((list) =>
          named(list).map((one, at) => (at ? one : { ...one, annotations: { ...one.annotations, 'x.y': 'z' } })),
        ),
      ],
    ];
    const layout = filesOf();
    layout.set('oci-layout', '{"imageLayoutVersion":"2.0.0"}');
    ways.push(['another version of the layout', layout]);
    for (const [what, files] of ways)
      expect([what, await refused(files)]).toEqual([what, expect.stringMatching(/^export_broken: /)]);
    // A second index behind the first: whichever is read, one of them was not checked.
    const twice = [...filesOf(), ['index.json', filesOf().get('index.json') as string] as const];
    expect(await refused(twice)).toMatch(/^export_broken: /);
  });

  it('is refused where something is missing, or besides', async () => {
    const without = filesOf();
    without.delete(blobPath(digestOf(layers[1] as Buffer)));
    expect(await refused(without)).toMatch(/the bytes sha256:.* are missing/);
    expect(await refused([...filesOf(), [blobPath(digestOf('spare')), 'spare']])).toMatch(/nothing names sha256/);
    expect(await refused([...filesOf(), [blobPath(digestOf(layers[0] as Buffer)), layers[0] as Buffer]])).toMatch(
      /twice/,
    );
    expect(await refused([...filesOf()].filter(([name]) => name !== 'index.json'))).toMatch(/no index\.json/);
    expect(await refused(relisted((all) => all.slice(1)))).toMatch(/holds 0 releases/);
    expect(await refused(relisted((all) => [...all, all[0]]))).toMatch(/holds 2 releases/);
    expect(await refused(relisted((all) => all.filter((one) => !/provenance/.test(String(one.artifactType)))))).toMatch(
      /no statement of the kind provenance/,
    );
    expect(await refused(relisted((all) => [...all, ...all.filter((one) => one.artifactType)]))).toMatch(
      /several statements/,
    );
    expect(await refused(relisted(() => 'none'))).toMatch(/are no list/);
    expect(await refused(relisted((all) => [{ ...all[0], size: 5 }]))).toMatch(/bytes long, and not 5/);
  });

  it('is refused with 10,000 layers, 10,000 parts or 30,000 blobs', async () => {
    const layer = {
      mediaType: 'application/vnd.oci.image.layer.v1.tar',
      digest: digestOf(layers[0] as Buffer),
      size: 2_000,
    };
    const manifest = JSON.stringify({ schemaVersion: 2, layers: Array(10_000).fill(layer) });
    const files = changedRelease((release) => {
      Object.assign(release.manifests[0] as object, { digest: digestOf(manifest), size: Buffer.byteLength(manifest) });
    });
    expect(await refused([...files, [blobPath(digestOf(manifest)), manifest]])).toMatch(
      /the layers of api are more than 500/,
    );
    expect(
      await refused(changedRelease((release) => void (release.manifests = Array(10_000).fill(release.manifests[0])))),
    ).toMatch(/the parts are more than 200/);
    const many = Array.from({ length: 20_001 }, (_one, at) => [blobPath(digestOf(`${at}`)), `${at}`] as const);
    expect(await refused(many)).toMatch(/more than 20000 blobs/);
  });

  it('is refused where what is stated has another form', async () => {
    expect(await refused(filesOf({ predicate: { evidence: 'much' } }))).toMatch(/no form that is known/);
    expect(await refused(filesOf({ predicate: { commit: null } }))).toMatch(/no form that is known/);
  });
});

describe('keys', () => {
  const pem = (key: never) => publicOf(key).export({ type: 'spki', format: 'pem' }) as string;
  const refusal = (text: string) => {
    try {
      return `${readKeys(text, 'keys.json').length} keys`;
    } catch (error) {
      return (error as { issue: { data: { why: string } } }).issue.data.why;
    }
  };

  it('are read from a set and from PEM, and are the same', () => {
    const set = JSON.stringify({
      keys: [jwkOf(publicOf(ours)), { kty: 'RSA', n: 'x', e: 'AQAB' }, jwkOf(publicOf(old))],
    });
    expect(readKeys(set, 'x').map(keyIdOf)).toEqual([ours, old].map((key) => keyIdOf(publicOf(key))));
    expect(readKeys(pem(ours), 'x').map(keyIdOf)).toEqual([keyIdOf(publicOf(ours))]);
  });

  it('are refused in words', () => {
    const rsa = generateKeyPairSync('rsa', { modulusLength: 2048 }).publicKey.export({ type: 'spki', format: 'pem' });
    const secret = (ours as { export(how: object): string }).export({ type: 'pkcs8', format: 'pem' });
    expect(refusal(secret)).toMatch(/private key/);
    expect(refusal(rsa as string)).toMatch(/kind rsa/);
    for (const text of [
      '',
      '{}',
      '[]',
      '{"keys":[null]}',
      '{"keys":{}}',
      'null',
      '{"keys":[{"kty":"OKP","crv":"Ed25519","x":"AA"}]}',
    ])
      expect(refusal(text)).toMatch(/of Ed25519|cannot be read/);
  });
});
