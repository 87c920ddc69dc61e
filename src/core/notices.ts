/** What is to be known of a resource besides its state, in the same words wherever people read it. */
import { nearlyFull, shareOf } from './advance/chores.js';
import { bytesText } from './sizes.js';
import type { ResourceState, VolumeHold } from './states.js';

export interface Notice {
  tone: 'plain' | 'warn' | 'bad';
  text: string;
}

export interface Noticed {
  state: ResourceState;
  bytes: number | null;
  /** Bytes that it may hold. */
  most: number | null;
  /** Where files are, of a volume. */
  volume: {
    agent: string | null;
    alive: boolean;
    hold: VolumeHold | null;
    path: string;
    left: readonly { agent: string; alive: boolean; used: number | null }[];
  } | null;
}

export function noticesOf({ state, bytes, most, volume }: Noticed): Notice[] {
  if (state === 'removed') return [];
  const share = shareOf(bytes, most);
  const full: Notice[] =
    share !== null && share >= nearlyFull && (volume !== null || share < 1)
      ? [{ tone: 'bad', text: 'It is nearly full: a larger `size` in the definition makes room.' }]
      : [];
  if (!volume) return full;
  const { agent, alive, hold, path, left } = volume;
  return [
    {
      tone: 'plain',
      text: `Programs find it at ${path}${agent === null ? '; no agent has it yet.' : `, on the machine of ${agent}: what uses it runs there.`}`,
    },
    ...(agent === null || alive
      ? []
      : [
          {
            tone: 'bad' as const,
            text: `${agent} gives no sign of life: what uses the volume waits for it. If that machine is lost, restore a backup on another one.`,
          },
        ]),
    ...full,
    ...(hold === 'counting'
      ? [
          {
            tone: 'warn' as const,
            text: 'Its size is counted, and holds nobody up: its agent can’t mount file systems.',
          },
        ]
      : []),
    ...left.map((one) => ({
      tone: 'plain' as const,
      text: `What was there before is on ${one.agent} still${one.used === null ? '' : ` (${bytesText(one.used)})`}: it is backed up, then removed${one.alive ? '' : ', when that agent is back'}.`,
    })),
  ];
}

/** `1.2 GiB of 2.0 GiB, 60 % full`; `1.2 GiB` where it has no size. */
export function fillText(bytes: number | null, most: number | null): string {
  if (bytes === null) return '';
  const share = shareOf(bytes, most);
  return share === null || most === null
    ? bytesText(bytes)
    : `${bytesText(bytes)} of ${bytesText(most)}, ${Math.floor(share * 100)} % full`;
}
