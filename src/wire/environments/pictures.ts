/** Pictures of what an environment shows, beside what is live where its change leads to. */
import { type Static, Type } from '@sinclair/typebox';
import { pictureStates } from '../../core/states.js';
import { Id, Nullable, oneOf, Said, Time } from '../parts.js';

const Pixels = Type.Integer({ minimum: 0 });
/** Where its bytes are (a PNG), and its size in pixels. */
const PictureImage = Type.Object({ url: Type.String(), width: Pixels, height: Pixels });
export type PictureImage = Static<typeof PictureImage>;

/** One side of a page: its answer (null: it came to none), and why there is no picture of it. */
const PictureSide = Type.Object({ status: Nullable(Type.Integer()), why: Nullable(Type.String()) });

export const PicturePage = Type.Object({
  path: Type.String(),
  after: PictureSide,
  /** Null: it stands beside nothing. */
  before: Nullable(PictureSide),
  /** How much of it differs, 0 to 1; null where nothing was compared. */
  share: Nullable(Type.Number()),
  /** How much was not compared, since it differs by itself, 0 to 1. */
  restless: Type.Number(),
  /** Rectangles that differ, in pixels, the largest first. */
  areas: Type.Array(Type.Object({ x: Pixels, y: Pixels, width: Pixels, height: Pixels })),
  /** Those that are kept; `marked`: what is shown, with what differs marked; `small`: its top. */
  images: Type.Object({
    after: Nullable(PictureImage),
    before: Nullable(PictureImage),
    marked: Nullable(PictureImage),
    small: Nullable(PictureImage),
  }),
});
export type PicturePage = Static<typeof PicturePage>;

export const Picture = Type.Object({
  id: Id,
  state: oneOf(pictureStates),
  deployment: Type.Integer(),
  release: Type.Integer(),
  /** What it stands beside. */
  beside: Nullable(Type.Object({ environment: Type.String(), deployment: Type.Integer(), release: Type.Integer() })),
  /** How much of all pages that were compared differs, 0 to 1. */
  share: Nullable(Type.Number()),
  pages: Type.Array(PicturePage),
  issue: Nullable(Said),
  /** What took it, whose log tells more. */
  attempt: Nullable(Id),
  createdAt: Time,
  takenAt: Nullable(Time),
});
export type Picture = Static<typeof Picture>;

export const PictureList = Type.Object({
  /** The newest, and before it the newest that has pages. */
  items: Type.Array(Picture),
  next: Type.Null(),
  /** Whether an agent takes pictures. */
  able: Type.Boolean(),
});
export type PictureList = Static<typeof PictureList>;
