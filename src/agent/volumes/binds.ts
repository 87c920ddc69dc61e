/** Where the volumes of a piece of work are shown in its sandbox. */
import { volumesInside } from '../../core/definition/model.js';
import type { AgentContext } from '../context.js';
import type { ChainWork } from '../sandbox/work.js';

/** Throws `volume_missing` where one is not on this machine. */
export const volumeBinds = (
  { volumes }: Pick<AgentContext, 'volumes'>,
  wanted: readonly { id: string; name: string }[] = [],
): ChainWork['binds'] =>
  wanted.map(({ id, name }) => ({ from: volumes.pathOf(id, name), to: `${volumesInside}/${name}` }));
