/** Pictures as people's calls give them. */
import type { PictureFile } from '../../core/pictures/pages.js';
import { pictureTool } from '../../engine/pictures/pictures.js';
import { takesPictures } from '../../records/callers/agents.js';
import type { Db } from '../../records/database.js';
import { picturesOf, type ShownPicture } from '../../records/deployments/pictures.js';
import type { Picture, PictureImage, PictureList } from '../../wire/environments/pictures.js';
import { iso, said } from './basics.js';

/** Path of an image; whoever asks for it is asked who they are. */
export const imagePath = (project: string, environment: string, id: string, page: number, file: string): string =>
  `/api/projects/${project}/environments/${environment}/pictures/${id}/${page}/${file}`;

export async function pictureList(
  db: Db,
  project: string,
  environment: { id: string; name: string },
): Promise<PictureList> {
  const rows = await picturesOf(db, environment.id);
  return {
    items: rows.map((row) => pictureView(project, environment.name, row)),
    next: null,
    able: await takesPictures(db, pictureTool),
  };
}

function pictureView(project: string, environment: string, row: ShownPicture): Picture {
  const image = (page: number, file: PictureFile): PictureImage | null => {
    const found = row.files.find((one) => one.page === page && one.file === file);
    return found
      ? { url: imagePath(project, environment, row.id, page, file), width: found.width, height: found.height }
      : null;
  };
  return {
    id: row.id,
    state: row.state,
    deployment: row.deployment,
    release: row.release,
    beside: row.beside,
    share: row.share,
    pages: (row.pages ?? []).map((page, at) => ({
      ...page,
      images: {
        after: image(at, 'after'),
        before: image(at, 'before'),
        marked: image(at, 'marked'),
        small: image(at, 'small'),
      },
    })),
    issue: said(row.issue),
    attempt: row.attempt_id,
    createdAt: row.created_at.toISOString(),
    takenAt: iso(row.taken_at),
  };
}
