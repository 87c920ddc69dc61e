/**
 * What differs between two pages, each of which was looked at twice: what is not the same in two looks at one side differs by itself
 * (a clock, a picture that loads late), and is not compared.
 */
import pixelmatch from 'pixelmatch';
import { type Area, smallBy, windowHeight } from './pages.js';

/** Pixels as red, green, blue, alpha, line by line from the upper left. */
export interface Bitmap {
  width: number;
  height: number;
  data: Uint8Array;
}

export interface Compared {
  /** Pixels that differ, of those that were compared; 0 to 1. */
  share: number;
  /** Pixels that were not compared, of all; 0 to 1. */
  restless: number;
  areas: Area[];
  /** The second side: faint, but for what differs, which is framed. */
  marked: Bitmap;
}

type Looks = readonly [Bitmap, Bitmap];

/** Pixels of a square in which one that differs by itself takes all others along. */
const cell = 16;
/** Pixels between two places that differ, which are one area all the same. */
const reach = 24;
const mostAreas = 40;
const threshold = 0.1;
/** A vermilion that stands out from greys and from most pages. */
const strong = [204, 51, 0] as const;
const frameWidth = 3;
/** Pixels between an area and its frame. */
const air = 5;
const tint = 0.08;
/** How much of what did not change is left to be seen. */
const faint = 0.3;

export function comparePages(before: Looks, after: Looks): Compared {
  const all = [...before, ...after];
  const width = Math.max(...all.map((one) => one.width));
  const height = Math.max(...all.map((one) => one.height));
  const [b1, b2, a1, a2] = all.map((one) => fitted(one, width, height)) as [Bitmap, Bitmap, Bitmap, Bitmap];
  const restless = new Uint8Array(width * height);
  for (const [one, other] of [
    [b1, b2],
    [a1, a2],
  ] as const)
    spread(differing(one, other), restless, width, height);
  const changed = differing(b1, a1, restless);
  // What one side has and the other has not differs, whatever it shows.
  const from = Math.min(before[0].height, after[0].height) * width;
  const to = Math.max(before[0].height, after[0].height) * width;
  for (let at = from; at < to; at++) if (!restless[at]) changed[at] = 1;
  const left = width * height - count(restless);
  const areas = areasOf(changed, width, height);
  return {
    share: left === 0 ? 0 : count(changed) / left,
    restless: 1 - left / (width * height),
    areas,
    marked: mark(a1, areas),
  };
}

/** The top of a page, smaller: each pixel is the mean of a square. */
export function smallOf({ width, height, data }: Bitmap, by = smallBy): Bitmap {
  const [w, h] = [Math.floor(width / by), Math.floor(Math.min(height, windowHeight) / by)];
  const small = new Uint8Array(w * h * 4);
  for (let y = 0; y < h; y++)
    for (let x = 0; x < w; x++)
      for (let channel = 0; channel < 4; channel++) {
        let sum = 0;
        for (let dy = 0; dy < by; dy++)
          for (let dx = 0; dx < by; dx++) sum += data[((y * by + dy) * width + x * by + dx) * 4 + channel] as number;
        small[(y * w + x) * 4 + channel] = Math.round(sum / (by * by));
      }
  return { width: w, height: h, data: small };
}

/** With white where there is nothing. */
function fitted(one: Bitmap, width: number, height: number): Bitmap {
  if (one.width === width && one.height === height) return one;
  const data = new Uint8Array(width * height * 4).fill(255);
  for (let y = 0; y < one.height; y++)
    data.set(one.data.subarray(y * one.width * 4, (y + 1) * one.width * 4), y * width * 4);
  return { width, height, data };
}

/** A byte for each pixel: 1 where they differ. */
function differing(one: Bitmap, other: Bitmap, ignoreMask?: Uint8Array): Uint8Array {
  const { width, height } = one;
  const out = new Uint8Array(width * height * 4);
  pixelmatch(one.data, other.data, out, width, height, {
    threshold,
    // Edges of letters that are drawn otherwise are no change that anybody sees: they stand in no mask.
    diffMask: true,
    checkerboard: false,
    ...(ignoreMask ? { ignoreMask } : {}),
  });
  const mask = new Uint8Array(width * height);
  for (let at = 0; at < mask.length; at++) mask[at] = out[at * 4 + 3] ? 1 : 0;
  return mask;
}

const count = (mask: Uint8Array): number => mask.reduce((sum, one) => sum + one, 0);

/** Sets all pixels of the squares in which one is set, and of their neighbours to the sides: what follows a word moves with it. */
function spread(mask: Uint8Array, into: Uint8Array, width: number, height: number): void {
  const [columns, rows] = [Math.ceil(width / cell), Math.ceil(height / cell)];
  const cells = cellsOf(mask, width, height, cell);
  for (let row = 0; row < rows; row++)
    for (let column = 0; column < columns; column++) {
      if (![-1, 0, 1].some((by) => inside(column + by, columns) && cells[row * columns + column + by])) continue;
      for (let y = row * cell; y < Math.min(height, (row + 1) * cell); y++)
        into.fill(1, y * width + column * cell, y * width + Math.min(width, (column + 1) * cell));
    }
}

const inside = (at: number, end: number): boolean => at >= 0 && at < end;

function cellsOf(mask: Uint8Array, width: number, height: number, size: number): Uint8Array {
  const columns = Math.ceil(width / size);
  const cells = new Uint8Array(columns * Math.ceil(height / size));
  for (let y = 0; y < height; y++)
    for (let x = 0; x < width; x++)
      if (mask[y * width + x]) cells[Math.floor(y / size) * columns + Math.floor(x / size)] = 1;
  return cells;
}

/** Rectangles around what lies close together, the largest first. */
function areasOf(mask: Uint8Array, width: number, height: number): Area[] {
  const columns = Math.ceil(width / reach);
  const rows = Math.ceil(height / reach);
  const cells = cellsOf(mask, width, height, reach);
  const areas: Area[] = [];
  for (let start = 0; start < cells.length; start++) {
    if (!cells[start]) continue;
    let [left, top, right, bottom] = [width, height, 0, 0];
    const open = [start];
    cells[start] = 0;
    while (open.length) {
      const at = open.pop() as number;
      const [column, row] = [at % columns, Math.floor(at / columns)];
      for (let y = row * reach; y < Math.min(height, (row + 1) * reach); y++)
        for (let x = column * reach; x < Math.min(width, (column + 1) * reach); x++)
          if (mask[y * width + x]) {
            [left, top] = [Math.min(left, x), Math.min(top, y)];
            [right, bottom] = [Math.max(right, x), Math.max(bottom, y)];
          }
      for (let down = -1; down <= 1; down++)
        for (let over = -1; over <= 1; over++) {
          const next = (row + down) * columns + column + over;
          if (!inside(column + over, columns) || !inside(row + down, rows) || !cells[next]) continue;
          cells[next] = 0;
          open.push(next);
        }
    }
    areas.push({ x: left, y: top, width: right - left + 1, height: bottom - top + 1 });
  }
  return areas.sort((a, b) => b.width * b.height - a.width * a.height).slice(0, mostAreas);
}

/** What has not changed is faint; what has is as it is, on a tint, in a frame. What was there before shows on the other side alone. */
function mark({ width, height, data }: Bitmap, areas: readonly Area[]): Bitmap {
  const marked = new Uint8Array(data.length).fill(255);
  for (let at = 0; at < width * height * 4; at++)
    if (at % 4 !== 3) marked[at] = Math.round(255 - (255 - (data[at] as number)) * faint);
  return framed({ width, height, data: marked }, areas, frameWidth, (at) => tinted(data, at));
}

const tinted = (data: Uint8Array, at: number): number =>
  Math.round((data[at] as number) * (1 - tint) + (strong[at % 4] as number) * tint);

/** The same with a frame around each area; `fill`: what is in them, by the place of a value. */
export function framed(
  { width, height, data }: Bitmap,
  areas: readonly Area[],
  thick: number,
  fill: (at: number) => number = (at) => data[at] as number,
): Bitmap {
  const out = Uint8Array.from(data);
  const margin = air + thick;
  for (const area of areas) {
    const [left, top] = [Math.max(0, area.x - margin), Math.max(0, area.y - margin)];
    const right = Math.min(width, area.x + area.width + margin);
    const bottom = Math.min(height, area.y + area.height + margin);
    for (let y = top; y < bottom; y++)
      for (let x = left; x < right; x++) {
        const to = (y * width + x) * 4;
        const edge = Math.min(x - left, y - top, right - 1 - x, bottom - 1 - y) < thick;
        for (let channel = 0; channel < 3; channel++)
          out[to + channel] = edge ? (strong[channel] as number) : fill(to + channel);
      }
  }
  return { width, height, data: out };
}
