/** Who may call what: one row a route. The service refuses to start when a route has none, or a row no route. */
import type { Role } from '../core/states.js';

/** A role and all above it; anyone; the token of an agent or edge; or a check of its own (git, signed events). */
export type Access = Role | 'anyone' | 'agent' | 'edge' | 'signature' | 'git';

export const access: Record<string, Access> = {
  'POST /api/sign-in': 'anyone',
  'POST /api/sign-out': 'anyone',
  'GET /api/health': 'anyone',
  'GET /api/openapi.json': 'anyone',
  'GET /schema/definition.json': 'anyone',
  'GET /api/me': 'viewer',
  'GET /api/board': 'viewer',
  'GET /api/find': 'viewer',
  'GET /api/feed': 'viewer',
  'GET /api/events': 'viewer',
  'GET /api/agents': 'viewer',
  'GET /api/projects': 'viewer',
  'POST /api/projects': 'owner',
  'GET /api/projects/:project': 'viewer',
  'GET /api/tokens': 'owner',
  'POST /api/tokens': 'owner',
  'DELETE /api/tokens/:id': 'owner',
  'GET /api/runs': 'viewer',
  'GET /api/projects/:project/runs/:number': 'viewer',
  'POST /api/projects/:project/runs': 'developer',
  'POST /api/projects/:project/runs/:number/stop': 'developer',
  'GET /api/attempts/:id/log': 'viewer',
  'GET /api/instances/:id/log': 'viewer',
  'GET /api/projects/:project/releases': 'viewer',
  'GET /api/projects/:project/releases/:number': 'viewer',
  'GET /api/projects/:project/releases/:number/image': 'viewer',
  'GET /api/projects/:project/environments': 'viewer',
  'GET /api/projects/:project/environments/:name': 'viewer',
  'GET /api/projects/:project/environments/:name/promotion': 'viewer',
  'POST /api/projects/:project/environments/:name/deployments': 'developer',
  'POST /api/projects/:project/environments/:name/hold': 'releaser',
  'POST /api/projects/:project/environments/:name/lift': 'releaser',
  'GET /api/projects/:project/deployments/:number': 'viewer',
  'POST /api/sources/:project/events': 'signature',
  'GET /git/:project/info/refs': 'git',
  'POST /git/:project/git-upload-pack': 'git',
  'POST /git/:project/git-receive-pack': 'git',
  'POST /api/agent/register': 'agent',
  'POST /api/agent/poll': 'agent',
  'GET /api/agent/attempts/:id/files': 'agent',
  'POST /api/agent/attempts/:id/report': 'agent',
  'POST /api/agent/attempts/:id/log': 'agent',
  'POST /api/agent/instances/:id/report': 'agent',
  'POST /api/agent/instances/:id/log': 'agent',
  'GET /api/agent/blobs/:digest': 'agent',
  'PUT /api/agent/blobs/:digest': 'agent',
  'POST /api/edge/table': 'edge',
  'GET /api/edge/blobs/:digest': 'edge',
};

/** Acts that need more than the role of their route: `deploy` is a developer's, `promote` and `revert` are a releaser's. */
export const roleForAct = { deploy: 'developer', promote: 'releaser', revert: 'releaser' } as const satisfies Record<string, Role>;
