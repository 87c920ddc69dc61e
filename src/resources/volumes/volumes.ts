/**
 * The volumes of one machine. Each has a folder, `ID/`, with `state.json` (its size, which of its generations is the one that programs
 * see, and which wish was fulfilled last) and a generation: `N.img` mounted at `N/`, or the folder `N/` alone. A restore fills the next
 * generation and then names it in `state.json`: whatever dies meanwhile, one of the two is whole.
 */
import { mkdirSync, readdirSync, statSync } from 'node:fs';
import { chmod, chown, mkdir, readdir, rm, statfs } from 'node:fs/promises';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { type Static, Type } from '@sinclair/typebox';
import { CodedError } from '../../core/errors/errors.js';
import { sizeText } from '../../core/sizes.js';
import type { VolumeHold } from '../../core/states.js';
import { fillFolder, readFolder } from './archive.js';
import {
  countFiles,
  findHold,
  growImage,
  imageBytes,
  imageMode,
  makeImage,
  mountImage,
  type Owner,
  settleOnDisk,
  shareMounts,
  type Usage,
  unmount,
  usageOf,
} from './filesystem.js';

const VolumeFile = Type.Object({
  hold: Type.Union([Type.Literal('filesystem'), Type.Literal('counting')]),
  size: Type.Integer(),
  generation: Type.Integer(),
  /** The restore that made it; empty for none. */
  turn: Type.String(),
});
type VolumeFile = Static<typeof VolumeFile>;

export interface SeenHere extends Usage {
  id: string;
  hold: VolumeHold;
}

export interface Volumes {
  hold: VolumeHold;
  /** Where its files are. Throws `volume_missing`. */
  pathOf(id: string, name: string): string;
  /** Throws `volume_closed_first` where it can't be made larger while it is in use. */
  make(id: string, size: number): Promise<void>;
  /** Copies its files into a larger one, while nobody has them open. */
  enlarge(id: string, turn: string, size: number, abort: AbortSignal): Promise<void>;
  /** Its files as a tar archive. Throws `volume_gone`. */
  read(id: string): ReturnType<typeof readFolder>;
  restore(id: string, turn: string, size: number, from: Readable, abort: AbortSignal): Promise<void>;
  /** Unpacks an archive beside it, counts what is in it, and removes that. */
  tryOut(id: string, size: number, from: Readable, abort: AbortSignal): Promise<{ files: number; bytes: number }>;
  remove(id: string): Promise<void>;
  /** How full each is. */
  look(): Promise<SeenHere[]>;
}

export interface VolumesOptions {
  /** Has a folder for each volume. */
  folder: string;
  /** Who is this machine, in words for people. */
  agent: string;
  /** The account of the programs; null: that of this process. */
  owner: Owner | null;
  /** What holds them to their size; default: a file system where one can be mounted. */
  hold?: VolumeHold;
  /** Bytes of the disk that no volume may take. */
  spare: number;
  kept: {
    read(path: string): VolumeFile | null;
    write(path: string, file: VolumeFile): void;
  };
  /** One could not be made ready again: whoever wants it hears that it is not there. */
  failed(id: string, error: Error): void;
  /** Takes a folder away, in its own time. */
  discard(path: string): Promise<void>;
}

export const volumeFile = VolumeFile;

/** Opens those that are there: their file systems are mounted again after a restart. */
export async function openVolumes(options: VolumesOptions): Promise<Volumes> {
  const { folder, agent, owner, kept } = options;
  mkdirSync(folder, { recursive: true, mode: 0o711 });
  const hold = options.hold ?? findHold(folder);
  const at = (id: string) => join(folder, id);
  const stateOf = (id: string) => kept.read(join(at(id), 'state.json'));
  const image = (id: string, generation: number | string) => join(at(id), `${generation}.img`);
  const point = (id: string, generation: number | string) => join(at(id), String(generation));

  /** Throws `volume_disk` where so many bytes more are not there. */
  const needRoom = async (bytes: number): Promise<void> => {
    const { bavail, bsize } = await statfs(folder);
    const free = Math.max(0, bavail * bsize - options.spare);
    if (free < bytes) throw new CodedError('volume_disk', { agent, size: sizeText(bytes), free: sizeText(free) });
  };
  // Before any program of this agent starts, and before namespaces are made for one: what is mounted later shows only in those that were
  // made after this. One made before would show the empty folder below the volume.
  if (hold === 'filesystem') await shareMounts(folder);
  const mount = async (id: string, name: number | string): Promise<void> => {
    await mountImage(image(id, name), point(id, name));
  };
  /** An empty generation that is mounted. */
  const begin = async (id: string, name: number | string, by: VolumeHold, size: number, reserve: boolean) => {
    await mkdir(at(id), { recursive: true, mode: 0o711 });
    await drop(id, name);
    if (by === 'filesystem') {
      if (reserve) await needRoom(imageBytes(size));
      await makeImage(image(id, name), size, owner, { reserve });
      await mount(id, name);
      // The mounted root belongs to the programs.
      await chmod(point(id, name), 0o700);
    } else {
      await mkdir(point(id, name), { recursive: true, mode: 0o700 });
      if (owner) await chown(point(id, name), owner.uid, owner.gid);
    }
    return point(id, name);
  };
  const drop = async (id: string, name: number | string): Promise<void> => {
    await unmount(point(id, name));
    await rm(image(id, name), { force: true });
    // Empty where it was mounted; never what may be mounted still.
    await options.discard(point(id, name));
  };
  /** Generations but for the one that counts; null: none does. */
  const tidy = async (id: string, generation: number | null): Promise<void> => {
    for (const name of new Set((await readdir(at(id))).map((one) => one.replace(/\.img$/, ''))))
      if (/^(\d+|try)$/.test(name) && name !== String(generation)) await drop(id, name);
  };
  const open = async (id: string): Promise<void> => {
    const state = stateOf(id);
    if (!state) return;
    if (state.hold === 'filesystem') {
      await chmod(image(id, state.generation), imageMode);
      await mount(id, state.generation);
    }
    await tidy(id, state.generation);
  };
  for (const id of readdirSync(folder)) {
    // Somebody died while it was found out what can be mounted.
    if (id.startsWith('try-')) await options.discard(at(id));
    else await open(id).catch((error: Error) => options.failed(id, error));
  }

  /** What is shown where nothing is mounted is the machine's own disk: a write there would be lost. */
  const isThere = (id: string, { hold: by, generation }: VolumeFile): boolean => {
    const here = statSync(point(id, generation), { throwIfNoEntry: false });
    return here !== undefined && (by === 'counting' || here.dev !== statSync(at(id)).dev);
  };
  const found = (id: string): VolumeFile | null => {
    const state = stateOf(id);
    return state && isThere(id, state) ? state : null;
  };
  const need = (id: string): VolumeFile => {
    const state = found(id);
    if (!state) throw new CodedError('volume_gone', { agent });
    return state;
  };
  const write = (id: string, state: VolumeFile) => kept.write(join(at(id), 'state.json'), state);
  const fill = async (place: string, size: number, from: Readable, abort: AbortSignal): Promise<void> => {
    try {
      await fillFolder(place, from, owner, abort);
    } catch (error) {
      if ((error as { full?: boolean }).full) throw new CodedError('volume_small', { size: sizeText(size) });
      throw error;
    }
  };
  /** Another generation follows, with what `work` puts there. */
  const follow = async (
    id: string,
    state: VolumeFile,
    turn: string,
    size: number,
    work: (place: string, most: number) => Promise<void>,
  ): Promise<void> => {
    const next = state.generation + 1;
    const most = Math.max(size, state.size);
    try {
      const place = await begin(id, next, state.hold, most, true);
      await work(place, most);
      await settleOnDisk(place);
    } catch (error) {
      await drop(id, next);
      throw error;
    }
    write(id, { ...state, size: most, generation: next, turn });
    await tidy(id, next);
  };
  return {
    hold,
    pathOf(id, name) {
      const state = found(id);
      if (!state) throw new CodedError('volume_missing', { name });
      return point(id, state.generation);
    },
    async make(id, size) {
      const state = stateOf(id);
      if (!state) {
        await begin(id, 1, hold, size, true);
        return write(id, { hold, size, generation: 1, turn: '' });
      }
      if (size < state.size) throw new CodedError('volume_smaller', { size: sizeText(state.size) });
      if (state.hold === 'filesystem') await mount(id, state.generation);
      if (size > state.size) {
        if (state.hold === 'filesystem') {
          await needRoom(imageBytes(size) - imageBytes(state.size));
          if (!(await growImage(image(id, state.generation), size))) throw new CodedError('volume_closed_first');
        }
        write(id, { ...state, size });
      }
      await tidy(id, state.generation);
    },
    read(id) {
      const { generation } = need(id);
      return readFolder(point(id, generation), owner);
    },
    async enlarge(id, turn, size, abort) {
      const state = need(id);
      if (state.size >= size) return;
      await follow(id, state, turn, size, async (place, most) => {
        // Begun here: what a program has written and nobody reads is thrown away at its end.
        const archive = readFolder(point(id, state.generation), owner);
        try {
          await Promise.all([archive.done, fill(place, most, archive.bytes, abort)]);
        } finally {
          archive.kill();
        }
      });
    },
    async restore(id, turn, size, from, abort) {
      const state = need(id);
      if (state.turn === turn) return void from.destroy();
      try {
        await follow(id, state, turn, size, (place, most) => fill(place, most, from, abort));
      } finally {
        from.destroy();
      }
    },
    async tryOut(id, size, from, abort) {
      const state = need(id);
      try {
        // Not reserved: it goes again at once.
        const place = await begin(id, 'try', state.hold, Math.max(size, state.size), false);
        await fill(place, size, from, abort);
        return await countFiles(place);
      } finally {
        from.destroy();
        await drop(id, 'try');
      }
    },
    async remove(id) {
      if (!statSync(at(id), { throwIfNoEntry: false })) return;
      await tidy(id, null);
      await options.discard(at(id));
    },
    async look() {
      const seen: SeenHere[] = [];
      for (const id of readdirSync(folder)) {
        const state = found(id);
        if (!state) continue;
        const usage = await usageOf(state.hold, point(id, state.generation), state.size).catch(() => null);
        if (usage) seen.push({ id, hold: state.hold, ...usage });
      }
      return seen;
    },
  };
}
