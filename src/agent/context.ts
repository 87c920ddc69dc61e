import type { Client } from '../wire/client.js';
import type { Layers } from './layers.js';
import type { Host } from './sandbox/host.js';
import type { ReadyChains } from './sandbox/ready.js';

export interface AgentContext {
  client: Client;
  /** The agent's folder: `work/`, `live/`, `layers/`, `bin/`. */
  folder: string;
  host: Host;
  layers: Layers;
  chains: ReadyChains;
  /** Address under which edges reach instances. */
  address: string;
  /** What the operator passes to tasks with `network: true`. */
  settings: Record<string, string>;
  log: { info(data: object, text: string): void; warn(data: object, text: string): void; error(data: object, text: string): void };
  /** The agent ends. */
  stopped(): boolean;
}
