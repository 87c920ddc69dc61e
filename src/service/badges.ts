/** Addresses of badges: with a key, so that only whoever was given one sees how a branch stands. */
import type { ProjectRow } from '../records/projects/projects.js';
import type { Service } from './server.js';

export const badgeKey = (service: Service, project: Pick<ProjectRow, 'id'>): string =>
  service.context.keys.hash(`badge ${project.id}`).slice(0, 24);

export const badgeUrl = (service: Service, project: Pick<ProjectRow, 'id' | 'name'>): string =>
  `${service.url}/badge/${project.name}.svg?key=${badgeKey(service, project)}`;
