import { issue, type Issue } from './errors/errors.js';

/** Bytes in words for people: `40 MiB`, `1.5 GiB`. */
export const sizeText = (bytes: number): string =>
  bytes >= 1024 ** 3 ? `${Number((bytes / 1024 ** 3).toFixed(1))} GiB` : `${Math.round(bytes / 1024 ** 2)} MiB`;

/** The same of what may be small: `312 B`, `1.5 KiB`, `40.2 MiB`, `1.5 GiB`. */
export const bytesText = (bytes: number): string =>
  bytes < 1024
    ? `${bytes} B`
    : bytes < 1024 ** 2
      ? `${(bytes / 1024).toFixed(1)} KiB`
      : bytes < 1024 ** 3
        ? `${(bytes / 1024 ** 2).toFixed(1)} MiB`
        : `${(bytes / 1024 ** 3).toFixed(1)} GiB`;

const sizeUnits: Record<string, number> = { K: 1024, M: 1024 ** 2, G: 1024 ** 3 };

/** `256M`, `1.5G` as bytes, or null if it is no size. */
export function parseSize(text: string): number | null {
  const found = /^([1-9]\d{0,6}(?:\.\d{1,2})?)([KMG])$/.exec(text);
  return found ? Math.round(Number(found[1]) * (sizeUnits[found[2] as string] as number)) : null;
}

/** The same as a definition writes it: `256M`. */
export const sizeSource = (bytes: number): string =>
  bytes % 1024 ** 3 === 0 ? `${bytes / 1024 ** 3}G` : `${Math.round(bytes / 1024 ** 2)}M`;

/** Says that a disk with `left` bytes has less room than the `wanted` ones, or null. */
export const diskIssue = (left: number, wanted: number, where: string): Issue | null =>
  left < wanted ? issue('disk_nearly_full', { where, free: sizeText(left), wanted: sizeText(wanted) }) : null;
