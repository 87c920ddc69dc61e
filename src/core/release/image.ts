/**
 * A release as an OCI image index with one manifest per part.
 *
 * Formats: OCI Image Format Specification 1.1 (index, manifest, descriptor, layout). Layers are uncompressed tar, so that
 * a task's stored output is a layer as it stands and no byte is copied.
 */
import { canonical, sha256 } from '../canonical.js';
import type { Part } from '../definition/model.js';

export const mediaTypes = {
  index: 'application/vnd.oci.image.index.v1+json',
  manifest: 'application/vnd.oci.image.manifest.v1+json',
  layer: 'application/vnd.oci.image.layer.v1.tar',
  config: 'application/vnd.tsunagi.part.v1+json',
} as const;

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

export function releaseImage(
  parts: { part: Part; layers: Layer[] }[],
  facts: { project: string; commit: string },
): ReleaseImage {
  const documents: ReleaseImage['documents'] = [];
  const store = (value: unknown): Blob => {
    const text = canonical(value);
    const digest = digestOfText(text);
    documents.push({ digest, text });
    return { digest, size: Buffer.byteLength(text) };
  };
  const images = parts.map(({ part, layers }): PartImage & { size: number } => {
    const { needs: _needs, files: _files, ...config } = part;
    const manifest = store({
      schemaVersion: 2,
      mediaType: mediaTypes.manifest,
      artifactType: mediaTypes.config,
      config: { mediaType: mediaTypes.config, ...store(config) },
      layers: layers.map((layer) => ({
        mediaType: mediaTypes.layer,
        digest: layer.digest,
        size: layer.size,
        annotations: { 'dev.tsunagi.from': layer.from },
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
      annotations: { 'org.opencontainers.image.title': image.name },
    })),
    annotations: { 'org.opencontainers.image.revision': facts.commit, 'dev.tsunagi.project': facts.project },
  });
  return {
    digest: index.digest,
    parts: images.map(({ name, digest, layers }) => ({ name, digest, layers })),
    documents,
  };
}
