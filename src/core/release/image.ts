/**
 * A release as an OCI image index with one ordinary image per part: a config with command, port and working directory, which any
 * program that knows images understands.
 *
 * Formats: OCI Image Format Specification 1.1 (index, manifest, config, descriptor, layout). Layers are uncompressed tar, so that a
 * task's stored output is a layer as it stands and no byte is copied.
 */
import { canonical, sha256 } from '../canonical.js';
import type { Part } from '../definition/model.js';

export const mediaTypes = {
  index: 'application/vnd.oci.image.index.v1+json',
  manifest: 'application/vnd.oci.image.manifest.v1+json',
  layer: 'application/vnd.oci.image.layer.v1.tar',
  config: 'application/vnd.oci.image.config.v1+json',
  empty: 'application/vnd.oci.empty.v1+json',
} as const;

/** Annotations and labels of our own, and those of the specification that are used here. */
export const annotations = {
  title: 'org.opencontainers.image.title',
  revision: 'org.opencontainers.image.revision',
  /** Under which name a layout lists it. */
  name: 'org.opencontainers.image.ref.name',
  project: 'dev.tsunagi.project',
  /** All that the definition says of it, as canonical JSON: it has a share in the digest. */
  part: 'dev.tsunagi.part',
  from: 'dev.tsunagi.from',
} as const;

/** Port of a server that is run elsewhere: it listens where PORT says. */
const port = 8080;

/** Bytes by digest: `sha256:` and 64 hexadecimal digits. */
export interface Blob {
  digest: string;
  size: number;
}

export interface Layer extends Blob {
  /** What it holds: the commit's files, or the outputs of a task. */
  from: string;
}

export interface PartImage {
  name: string;
  /** Digest of its manifest: what identifies its bytes. */
  digest: string;
  layers: Layer[];
}

export interface ReleaseImage {
  /** Digest of the index: what evidence refers to. */
  digest: string;
  parts: PartImage[];
  /** The small documents that must be stored beside the layers: configs, manifests, the index. */
  documents: { digest: string; text: string }[];
}

const digestOfText = (text: string) => `sha256:${sha256(text)}`;

export interface ImageFacts {
  project: string;
  commit: string;
  /** As Go names processors (GOARCH), which the specification asks for: `amd64`, `arm64`. */
  architecture: string;
}

/**
 * The config of a part's image. Its layers are unpacked at `/`, where it starts. Nothing of the commit is in it: a part that no commit
 * has changed is the same bytes in each release.
 */
function configOf(part: Part, layers: readonly Layer[], { architecture }: ImageFacts) {
  const listens = part.kind === 'server';
  const { needs: _needs, files: _files, ...said } = part;
  return {
    architecture,
    os: 'linux',
    config: {
      WorkingDir: '/',
      ...(part.kind === 'site' ? {} : { Cmd: ['bash', '-euo', 'pipefail', '-c', part.start] }),
      ...(listens ? { Env: [`PORT=${port}`], ExposedPorts: { [`${port}/tcp`]: {} } } : {}),
      Labels: {
        [annotations.title]: part.name,
        [annotations.part]: canonical(said),
      },
    },
    // Of a layer that is not packed, this is its digest.
    rootfs: { type: 'layers', diff_ids: layers.map((layer) => layer.digest) },
  };
}

export function releaseImage(parts: { part: Part; layers: Layer[] }[], facts: ImageFacts): ReleaseImage {
  const documents: ReleaseImage['documents'] = [];
  const store = (value: unknown): Blob => {
    const text = canonical(value);
    const digest = digestOfText(text);
    documents.push({ digest, text });
    return { digest, size: Buffer.byteLength(text) };
  };
  const images = parts.map(({ part, layers }): PartImage & { size: number } => {
    const manifest = store({
      schemaVersion: 2,
      mediaType: mediaTypes.manifest,
      config: { mediaType: mediaTypes.config, ...store(configOf(part, layers, facts)) },
      layers: layers.map((layer) => ({
        mediaType: mediaTypes.layer,
        digest: layer.digest,
        size: layer.size,
        annotations: { [annotations.from]: layer.from },
      })),
    });
    return { name: part.name, digest: manifest.digest, size: manifest.size, layers };
  });
  const index = store({
    schemaVersion: 2,
    mediaType: mediaTypes.index,
    manifests: images.map((image) => ({
      mediaType: mediaTypes.manifest,
      digest: image.digest,
      size: image.size,
      platform: { architecture: facts.architecture, os: 'linux' },
      annotations: { [annotations.title]: image.name },
    })),
    annotations: { [annotations.revision]: facts.commit, [annotations.project]: facts.project },
  });
  return {
    digest: index.digest,
    parts: images.map(({ name, digest, layers }) => ({ name, digest, layers })),
    documents,
  };
}
