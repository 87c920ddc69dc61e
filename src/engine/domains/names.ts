/** What the service knows of names: whom to ask, who certifies; and one address with what it belongs to. */
import type { AcmeSettings } from '../../domains/acme.js';
import type { Resolver } from '../../domains/resolver.js';
import type { EnvironmentRow } from '../../records/deployments/environments.js';
import type { AddressRow } from '../../records/domains/addresses.js';
import type { ProjectRow } from '../../records/projects/projects.js';

export interface Names {
  resolver: Resolver;
  /** Who certifies names; `local`: the service itself. */
  authority: { kind: 'none' } | { kind: 'local' } | ({ kind: 'acme' } & AcmeSettings);
  /** Addresses of the edges as the outside knows them; none: where a name leads is not looked at. */
  edges: readonly string[];
  /** Folder of an operator's certificates: NAME.crt and NAME.key; null: there are none. */
  folder: string | null;
}

export interface Placed {
  row: AddressRow;
  environment: EnvironmentRow;
  project: ProjectRow;
}
