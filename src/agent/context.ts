import type { Floor, Reserve } from './files/floor.js';
import type { Issue } from '../core/errors/errors.js';
import type { Client } from '../wire/rooms/client.js';
import type { Volumes } from '../resources/volumes/volumes.js';
import type { Databases } from '../resources/postgres/attempts.js';
import type { Caches } from './attempts/caches.js';
import type { LogBounds } from './log/keptlog.js';
import type { Standing } from './instances/standing.js';
import type { PortRange } from './instances/ports.js';
import type { Layers } from './files/layers.js';
import type { Host } from './sandbox/host.js';
import type { ReadyChains } from './sandbox/ready.js';

export interface AgentContext {
  client: Client;
  name: string;
  /** The agent's folder: `work/`, `live/`, `layers/`, `bin/`. */
  folder: string;
  host: Host;
  /** Tool → exact version. */
  tools: Record<string, string>;
  /** The browser that takes pictures; null: none does. */
  chromium: string | null;
  layers: Layers;
  chains: ReadyChains;
  standing: Standing;
  caches: Caches;
  volumes: Volumes;
  /** Databases for attempts; null where no cluster was named. */
  databases: Databases | null;
  /** Those of untrusted tasks; where the operator names no server of their own, the same as `databases`. */
  untrustedDatabases: Databases | null;
  /** Address under which edges reach instances, and the ports that they may have; as the agent's token says. */
  address: string;
  ports: PortRange;
  /** Seconds of the machine's uptime until which the agent's lease holds. */
  leaseUntil(): number;
  /** What the operator passes to tasks with `network: true`. */
  settings: Record<string, string>;
  logBounds: LogBounds;
  /** Milliseconds for which a server that was ready may answer nothing before it counts as failed. */
  silenceMs: number;
  log: {
    info(data: object, text: string): void;
    warn(data: object, text: string): void;
    error(data: object, text: string): void;
  };
  /** Room for the agent's own state on a full disk, and the attempts that may be ended for it. */
  reserve: Reserve;
  floor: Floor;
  /** Why there is no room for new attempts, or null. */
  full(): Promise<Issue | null>;
  /** The agent ends. */
  stopped(): boolean;
}
