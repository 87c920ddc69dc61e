/**
 * An export: an OCI image layout (OCI Image Format Specification 1.1, Image Layout) with one release, each of its parts under a name of
 * its own, and statements that refer to it (`subject`). What is written, and what is asked of one that comes from elsewhere.
 */
import type { KeyObject } from 'node:crypto';
import { canonical, sha256 } from '../canonical.js';
import { CodedError } from '../errors/errors.js';
import { type Envelope, open, type Statement } from './envelope.js';
import { annotations, type Blob, type Layer, mediaTypes, type PartImage } from './image.js';
import { type EvidencePredicate, predicateTypes, type StatementKind, statementKinds } from './statements.js';

export const layoutBounds = {
  /** Bytes of one document: what registries take of a manifest. */
  document: 4 * 1024 ** 2,
  /** Bytes of all documents together. */
  documents: 64 * 1024 ** 2,
  parts: 200,
  layersOfPart: 500,
  /** Blobs at most. */
  blobs: 20_000,
} as const;

export const layoutText = '{"imageLayoutVersion":"1.0.0"}';

export interface Document {
  digest: string;
  text: string;
}

const documentOf = (value: unknown): Document & Blob => {
  const text = canonical(value);
  return { digest: `sha256:${sha256(text)}`, size: Buffer.byteLength(text), text };
};

/** The empty config of what is no image. */
const empty = documentOf({});

export interface Statements {
  /** The list of the layout: `index.json`. */
  index: string;
  documents: Document[];
}

/** The list of a layout with one release, and the documents that hold what is stated about it. */
export function layoutOf(
  release: { number: number; digest: string; size: number; parts: { name: string; digest: string; size: number }[] },
  envelopes: Record<StatementKind, Envelope>,
): Statements {
  const subject = { mediaType: mediaTypes.index, digest: release.digest, size: release.size };
  const documents: Document[] = [empty];
  const referring = Object.entries(envelopes).map(([kind, envelope]) => {
    const artifactType = statementKinds[kind as StatementKind];
    const body = documentOf(envelope);
    const manifest = documentOf({
      schemaVersion: 2,
      mediaType: mediaTypes.manifest,
      artifactType,
      config: { mediaType: mediaTypes.empty, digest: empty.digest, size: empty.size },
      layers: [{ mediaType: artifactType, digest: body.digest, size: body.size }],
      subject,
    });
    documents.push(body, manifest);
    return { mediaType: mediaTypes.manifest, artifactType, digest: manifest.digest, size: manifest.size };
  });
  const named = (name: string) => ({ annotations: { [annotations.name]: name } });
  return {
    index: canonical({
      schemaVersion: 2,
      mediaType: mediaTypes.index,
      manifests: [
        { ...subject, ...named(`r${release.number}`) },
        ...release.parts.map(({ name, digest, size }) => ({
          mediaType: mediaTypes.manifest,
          digest,
          size,
          ...named(`r${release.number}-${name}`),
        })),
        ...referring,
      ],
    }),
    documents,
  };
}

export interface StoredBlob {
  size: number;
  /** Where it may be a document. */
  text: string | null;
}

export interface VerifiedExport {
  digest: string;
  parts: PartImage[];
  /** Documents of the release itself: index, manifests, configs. */
  documents: Document[];
  provenance: Statement['predicate'];
  stated: EvidencePredicate;
  /** The key that has signed what is stated. */
  keyid: string;
}

const digestPattern = /^sha256:[0-9a-f]{64}$/;
type Json = Record<string, unknown>;

const broken = (why: string) => new CodedError('export_broken', { why });
const isObject = (value: unknown): value is Json =>
  typeof value === 'object' && value !== null && !Array.isArray(value);
const brief = (text: unknown) => String(text).slice(0, 100);

interface Descriptor extends Blob {
  mediaType: string;
  artifactType: string | null;
  annotations: Record<string, string>;
}

/**
 * Checks an export whose blobs are what their names say: that nothing is missing or besides, and that what is stated about it is signed
 * by one of these keys and is about these very bytes.
 * @param list text of `index.json`
 * @throws `export_broken`, `export_unsigned`
 */
export function checkLayout(
  list: string,
  blobs: ReadonlyMap<string, StoredBlob>,
  keys: readonly KeyObject[],
): VerifiedExport {
  const used = new Set<string>();
  const read = (text: string, what: string): Json => {
    let value: unknown;
    try {
      value = JSON.parse(text);
    } catch {
      throw broken(`${what} is no JSON`);
    }
    if (!isObject(value)) throw broken(`${what} is no object`);
    return value;
  };
  const descriptor = (value: unknown, what: string): Descriptor => {
    if (
      !isObject(value) ||
      typeof value.mediaType !== 'string' ||
      typeof value.digest !== 'string' ||
      !digestPattern.test(value.digest) ||
      !Number.isSafeInteger(value.size)
    )
      throw broken(`${what} names no blob`);
    const found = blobs.get(value.digest);
    if (!found) throw broken(`the bytes ${value.digest} are missing`);
    if (found.size !== value.size)
      throw broken(`${value.digest} is ${found.size} bytes long, and not ${brief(value.size)}`);
    used.add(value.digest);
    return {
      mediaType: value.mediaType,
      artifactType: typeof value.artifactType === 'string' ? value.artifactType : null,
      digest: value.digest,
      size: found.size,
      annotations: isObject(value.annotations) ? (value.annotations as Record<string, string>) : {},
    };
  };
  const documents: Document[] = [];
  const document = ({ digest }: Descriptor, what: string): Json => {
    const text = blobs.get(digest)?.text ?? null;
    if (text === null) throw broken(`${what} is no document`);
    documents.push({ digest, text });
    return read(text, what);
  };
  const several = (value: unknown, most: number, what: string): unknown[] => {
    if (!Array.isArray(value)) throw broken(`${what} are no list`);
    if (value.length > most) throw broken(`${what} are more than ${most}`);
    return value;
  };

  const listed = several(read(list, 'index.json').manifests, layoutBounds.parts * 2, 'the entries of index.json').map(
    (one) => descriptor(one, 'an entry of index.json'),
  );
  const releases = listed.filter((one) => one.mediaType === mediaTypes.index);
  const [release] = releases;
  if (!release || releases.length > 1) throw broken(`it holds ${releases.length} releases, and not one`);
  const parts = several(document(release, 'the release').manifests, layoutBounds.parts, 'the parts').map((value) => {
    const image = descriptor(value, 'the release');
    const name = image.annotations[annotations.title];
    if (typeof name !== 'string' || !/^[a-z][a-z0-9-]{0,49}$/.test(name)) throw broken('a part has no name');
    const manifest = document(image, `the part ${name}`);
    const layers = several(manifest.layers, layoutBounds.layersOfPart, `the layers of ${name}`).map((one): Layer => {
      const { mediaType, digest, size, annotations: noted } = descriptor(one, `a layer of ${name}`);
      if (mediaType !== mediaTypes.layer) throw broken(`a layer of ${name} is of the kind ${brief(mediaType)}`);
      return { digest, size, from: brief(noted[annotations.from] ?? 'files') };
    });
    const described = descriptor(manifest.config, `the config of ${name}`);
    const config = document(described, `the config of ${name}`);
    const unpacked = isObject(config.rootfs) ? config.rootfs.diff_ids : null;
    // Parts of older releases are no images.
    if (
      described.mediaType === mediaTypes.config &&
      canonical(unpacked) !== canonical(layers.map((layer) => layer.digest))
    )
      throw broken(`the config of ${name} names other layers than its manifest`);
    return { name, digest: image.digest, layers };
  });
  if (new Set(parts.map(({ name }) => name)).size < parts.length) throw broken('two parts have the same name');
  const own = [...documents];

  /** What is stated, and by whose key. */
  const envelopes: Partial<Record<StatementKind, Envelope>> = {};
  const stated = (kind: StatementKind): { predicate: Json; keyid: string } => {
    const [found, other] = listed.filter((one) => one.artifactType === statementKinds[kind]);
    if (!found || other) throw broken(`it holds ${other ? 'several statements' : 'no statement'} of the kind ${kind}`);
    const what = `the statement of the kind ${kind}`;
    const manifest = document(found, what);
    if (descriptor(manifest.subject, what).digest !== release.digest) throw broken(`${what} is about something else`);
    descriptor(manifest.config, what);
    const [layer] = several(manifest.layers, 1, `the layers of ${what}`);
    const envelope = document(descriptor(layer, what), what);
    const opened = open(envelope, keys);
    if ('why' in opened)
      throw opened.why === 'form'
        ? broken(`${what} is no signed statement`)
        : new CodedError('export_unsigned', {
            why:
              opened.why === 'key' ? `${what} is signed by none of them` : `the signature of ${what} does not fit it`,
          });
    envelopes[kind] = envelope as unknown as Envelope;
    const { statement, keyid } = opened;
    const about = new Set(statement.subject.map(({ digest }) => `sha256:${digest.sha256}`));
    const missing = [release, ...parts].find(({ digest }) => !about.has(digest));
    if (statement.predicateType !== predicateTypes[kind] || missing)
      throw new CodedError('export_unsigned', { why: `what is signed is not about ${missing?.digest ?? 'a release'}` });
    return { predicate: statement.predicate, keyid };
  };
  const made = stated('provenance');
  const known = stated('evidence');
  if (!isStated(known.predicate)) throw broken('what is stated about it is of no form that is known here');
  // No signature covers the list. Everything that it says follows from what is signed, so there is one text that it can be.
  const size = release.size;
  const again = layoutOf(
    {
      number: known.predicate.number,
      digest: release.digest,
      size,
      parts: parts.map(({ name, digest }) => ({ name, digest, size: blobs.get(digest)?.size ?? 0 })),
    },
    envelopes as Record<StatementKind, Envelope>,
  );
  if (again.index !== list) throw broken('index.json says something else than what is signed');
  const spare = [...blobs.keys()].find((digest) => !used.has(digest));
  if (spare) throw broken(`nothing names ${spare}`);
  return {
    digest: release.digest,
    parts,
    documents: own,
    provenance: made.predicate,
    stated: known.predicate,
    keyid: known.keyid,
  };
}

/** Whether a predicate has the members that are read of it; `plan` and what it holds is for whoever uses it. */
function isStated(value: unknown): value is EvidencePredicate {
  if (!isObject(value) || !isObject(value.commit) || !isObject(value.plan)) return false;
  const texts = [value.project, value.line, value.commit.id, value.commit.title, value.commit.author, value.commit.at];
  return (
    texts.every((one) => typeof one === 'string') &&
    /^[0-9a-f]{40}([0-9a-f]{24})?$/.test(String(value.commit.id)) &&
    Number.isSafeInteger(value.number) &&
    Array.isArray(value.migrations) &&
    Array.isArray(value.evidence) &&
    value.evidence.every(
      (one) => isObject(one) && [one.kind, one.name, one.source, one.at].every((text) => typeof text === 'string'),
    )
  );
}
