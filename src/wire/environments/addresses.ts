/** Addresses of environments, as people's calls take and give them. */
import { type Static, Type } from '@sinclair/typebox';
import { addressKinds, addressStates, certificateSources } from '../../core/states.js';
import { closed, Nullable, oneOf, Said, Time } from '../parts.js';

export const Address = Type.Object({
  /** In the letters that DNS knows. */
  host: Type.String(),
  /** As people write it; null: the same. */
  unicode: Nullable(Type.String()),
  url: Type.String(),
  kind: oneOf(addressKinds),
  /** It stands in the definition of the main branch. */
  declared: Type.Boolean(),
  /** The one that the service gives now: it can be renamed, and not removed. */
  current: Type.Boolean(),
  /** Where `environment.url` leads. */
  main: Type.Boolean(),
  state: oneOf(addressStates),
  since: Time,
  /** What stands in its way. */
  issue: Nullable(Said),
  /** The TXT record that proves it; null: it needs none. */
  proof: Nullable(Type.Object({ record: Type.String(), value: Type.String() })),
  certificate: Nullable(
    Type.Object({
      issuer: Type.String(),
      source: oneOf(certificateSources),
      from: Time,
      until: Time,
    }),
  ),
  createdAt: Time,
});
export type Address = Static<typeof Address>;

export const AddressBody = Type.Object({ host: Type.String({ minLength: 1, maxLength: 300 }) }, closed);
export const RenameBody = Type.Object({ label: Type.String({ minLength: 1, maxLength: 100 }) }, closed);
