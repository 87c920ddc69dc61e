/** Which pages are pictured, how large, and what is told of them. */
import type { EnvironmentPlan, ReleasePlan } from '../definition/model.js';

/** Pixels of a picture: as wide as a window, as high as the page up to a bound. */
export const pictureWidth = 1280;
export const windowHeight = 800;
export const mostHeight = 4_000;
/** Of the small one: a fourth of the window each way. */
export const smallBy = 4;
/** Bytes of one picture, and of all that an agent hands over. */
export const mostPictureBytes = 12 * 1024 ** 2;
export const mostPages = 8;

/** Where the program that takes them lies in its sandbox. */
export const picturesInside = '/run/tsunagi-pictures';

/** Pictures of one page: what is shown, what it stands beside, the first with what differs marked, and its top in small. */
export const pictureFiles = ['after', 'before', 'marked', 'small'] as const;
export type PictureFile = (typeof pictureFiles)[number];

/** A rectangle of a picture, in pixels from its upper left corner. */
export interface Area {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** One side: where its pages are, and what lets the browser in without being counted. */
export interface PictureSide {
  url: string;
  host: string;
  pass: string;
}

/** What whoever takes them is told. */
export interface PicturePlan {
  pages: readonly string[];
  width: number;
  windowHeight: number;
  mostHeight: number;
  after: PictureSide;
  /** Null: it stands beside nothing. */
  before: PictureSide | null;
}

/** One side of a page. */
export interface Side {
  /** Its answer; null: it came to none. */
  status: number | null;
  /** Why there is no picture of it; null: there is one. */
  why: string | null;
}

export interface Page {
  path: string;
  after: Side;
  /** Null: it stands beside nothing. */
  before: Side | null;
  /** How much of it differs, from 0 to 1; null where nothing was compared. */
  share: number | null;
  /** How much of it was not compared, since it differs by itself from one look to the next. */
  restless: number;
  /** Where it differs: the largest first. */
  areas: Area[];
}

/** The pages that are pictured where a release is shown; none: no picture is taken. Reviews begin with their first page. */
export function pagesOf(
  plan: Pick<EnvironmentPlan, 'for' | 'pictures'>,
  release: Pick<ReleasePlan, 'parts'>,
): readonly string[] {
  const answers = Object.values(release.parts).some((part) => part.kind === 'site' || part.kind === 'server');
  return answers ? (plan.pictures ?? (plan.for === null ? [] : ['/'])) : [];
}

/** How much of all pages that were compared differs; null: none was. */
export function shareOf(pages: readonly Pick<Page, 'share'>[]): number | null {
  const shares = pages.flatMap(({ share }) => (share === null ? [] : [share]));
  return shares.length ? shares.reduce((sum, one) => sum + one, 0) / shares.length : null;
}

/** `3.4 %`; what differs at all is never said to be none. */
export function shareText(share: number): string {
  const percent = share * 100;
  if (percent === 0) return '0 %';
  if (percent < 0.1) return 'less than 0.1 %';
  return `${percent < 10 ? percent.toFixed(1) : Math.round(percent)} %`;
}
