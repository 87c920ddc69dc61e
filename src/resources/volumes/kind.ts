/** Volumes as a kind of resource. */
import type { Kind } from '../kinds.js';

export interface VolumeSpec {
  /** Bytes that it may hold. */
  size?: number;
}

export interface VolumeKind extends Kind<VolumeSpec> {
  kind: 'volume';
}
