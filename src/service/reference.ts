/**
 * The reference of the API, an OpenAPI 3.1 document: a summary and a name for each route, the errors it may answer, and examples.
 * Routes of agents, edges and git are not part of it.
 */
import { STATUS_CODES } from 'node:http';
import { registry } from '../core/errors/errors.js';
import { Problem } from '../wire/parts.js';
import { access } from './access.js';

/** Method and path → operationId and summary. The service refuses to start when a documented route has no row. */
export const operations: Record<string, readonly [id: string, summary: string]> = {
  'POST /api/sign-in': ['signIn', 'Exchange a sign-in code for a session'],
  'POST /api/sign-out': ['signOut', 'End the session of this request'],
  'GET /api/me': ['getMe', 'Show who is asking, and their role'],
  'GET /api/me/alerts': ['getMyAlerts', 'Show what the person asking is notified of'],
  'POST /api/me/alerts': ['setMyAlerts', 'Set what the person asking is notified of'],
  'GET /api/sessions': ['listSessions', 'List sessions: all for owners, else those of the person asking'],
  'DELETE /api/sessions/:id': ['endSession', 'End a session'],
  'GET /api/people': ['listPeople', 'List people'],
  'POST /api/people': ['invitePerson', 'Invite a person'],
  'POST /api/people/:name/role': ['setRole', 'Change the role of a person'],
  'POST /api/people/:name/sign-in': ['renewSignIn', 'Make a new sign-in code for a person'],
  'DELETE /api/people/:name': ['removePerson', 'Remove a person and revoke their tokens'],
  'GET /api/tokens': ['listTokens', 'List tokens'],
  'POST /api/tokens': ['addToken', 'Make a token; it is shown once'],
  'DELETE /api/tokens/:id': ['removeToken', 'Revoke a token'],
  'POST /api/keys/rotate': ['rotateKeys', 'Rotate the key that encrypts secrets'],
  'GET /api/keys/releases': ['getReleaseKeys', 'Get the public keys of releases as a JWK Set'],
  'POST /api/keys/releases/rotate': ['rotateReleaseKey', 'Sign releases with a new key from now on'],
  'GET /api/health': ['getHealth', 'Check that the service and its database respond'],
  'GET /api/openapi.json': ['getReference', 'Get this document'],
  'GET /schema/definition.json': ['getDefinitionSchema', 'Get the JSON Schema of definitions'],
  'GET /api/authority': ['getAuthority', 'Get the root certificate of the local authority'],
  'GET /metrics': ['getMetrics', 'Get metrics in the OpenMetrics text format'],
  'GET /api/board': ['getBoard', 'Show the live release and pending changes of every environment'],
  'GET /api/find': ['find', 'Search projects, environments, runs, releases and people'],
  'GET /api/feed': ['followTopics', 'Stream changes as server-sent events'],
  'GET /api/events': ['listEvents', 'List events of the record'],
  'GET /api/events/check': ['checkEvents', 'Check the seals of the record'],
  'GET /api/agents': ['listAgents', 'List agents'],
  'GET /api/cost': ['getCost', 'Show the cost of a span of time'],
  'POST /api/prices': ['setPrices', 'Set the prices that costs are computed with'],
  'GET /api/delivery': ['getDelivery', 'Show the delivery figures by week'],
  'GET /api/delivery/csv': ['getDeliveryCsv', 'Get the delivery figures as CSV'],
  'GET /api/alerts': ['listAlerts', 'List alerts and current conditions'],
  'POST /api/alerts': ['addAlert', 'Add an alert'],
  'GET /api/alerts/:name': ['getAlert', 'Show an alert and its last notifications'],
  'POST /api/alerts/:name/test': ['testAlert', 'Send a test notification'],
  'DELETE /api/alerts/:name': ['removeAlert', 'Delete an alert'],
  'GET /api/destinations': ['listDestinations', 'List log destinations'],
  'POST /api/destinations': ['addDestination', 'Add a log destination'],
  'POST /api/destinations/:name/test': ['testDestination', 'Send a test line to a log destination'],
  'DELETE /api/destinations/:name': ['removeDestination', 'Delete a log destination'],
  'GET /api/projects': ['listProjects', 'List projects'],
  'POST /api/projects': ['addProject', 'Add a project'],
  'GET /api/projects/:project': ['getProject', 'Show a project'],
  'POST /api/projects/:project/change': ['changeProject', 'Rename, pause or resume a project, or change its settings'],
  'GET /api/projects/:project/removal': ['previewRemoval', 'Show what removing a project deletes'],
  'DELETE /api/projects/:project': ['removeProject', 'Remove a project'],
  'POST /api/projects/:project/fetch': ['fetchProject', 'Look at the source of a polled project now'],
  'GET /api/projects/:project/proposal': ['getProposal', 'Propose a definition for the newest commit'],
  'GET /api/projects/:project/draft': ['getDraft', 'Show the default definition'],
  'POST /api/projects/:project/draft': ['setDraft', 'Set the default definition, or check one'],
  'POST /api/projects/:project/draft/commit': ['commitDraft', 'Commit the default definition to main'],
  'POST /api/sources/branches': ['listBranches', 'List the branches of a repository elsewhere'],
  'POST /api/sources/proposal': ['proposeForSource', 'Propose a definition for a repository elsewhere'],
  'POST /api/definitions/check': ['checkDefinition', 'Check a definition'],
  'GET /api/projects/:project/compare': ['compareReleases', 'Compare two releases or environments'],
  'GET /api/projects/:project/plan': ['getPlan', 'Show what a run of a commit would reuse and do'],
  'GET /api/runs': ['listRuns', 'List runs'],
  'POST /api/projects/:project/runs': ['startRun', 'Start a run of a branch or commit'],
  'GET /api/projects/:project/runs/:number': ['getRun', 'Show a run with its tasks'],
  'GET /api/projects/:project/runs/:number/coverage': ['getCoverage', 'Show the coverage of a run by file'],
  'POST /api/projects/:project/runs/:number/stop': ['stopRun', 'Stop a run'],
  'POST /api/projects/:project/runs/:number/again': ['repeatRun', 'Run a commit again'],
  'GET /api/projects/:project/runs/:number/why': ['explainRun', 'Explain the state of a run'],
  'GET /api/projects/:project/runs/:number/tasks/:task/why': ['explainTask', 'Explain why a task ran or was reused'],
  'GET /api/projects/:project/tasks/:task/since': ['findFirstFailure', 'Find the commit since which a task fails'],
  'POST /api/projects/:project/commits/:commit/allow': ['allowCommit', 'Allow one run of an untrusted commit'],
  'GET /api/attempts/:id/log': ['getLog', 'Read the log of an attempt'],
  'GET /api/attempts/:id/log/search': ['searchLog', 'Search the log of an attempt'],
  'GET /api/attempts/:id/log/text': ['getLogText', 'Get the log of an attempt as text'],
  'GET /api/instances/:id/log': ['getInstanceLog', 'Read the log of an instance'],
  'GET /api/projects/:project/releases': ['listReleases', 'List releases'],
  'GET /api/projects/:project/releases/:number': ['getRelease', 'Show a release with its evidence'],
  'POST /api/projects/:project/releases/import': ['importRelease', 'Import an exported release'],
  'GET /api/projects/:project/releases/:number/image': [
    'exportRelease',
    'Export a release as an OCI image layout in a tar',
  ],
  'GET /api/projects/:project/environments': ['listEnvironments', 'List the environments of a project'],
  'GET /api/projects/:project/environments/:name': ['getEnvironment', 'Show an environment'],
  'GET /api/projects/:project/environments/:name/promotion': [
    'previewPromotion',
    'Show what a promotion brings, and which rules it meets',
  ],
  'GET /api/projects/:project/environments/:name/look': [
    'previewDeployment',
    'Show what a deployment would start and cost',
  ],
  'GET /api/projects/:project/environments/:name/figures': ['getFigures', 'Show the figures of an environment'],
  'GET /api/projects/:project/environments/:name/logs': ['getLogs', 'Read the logs of the programs of an environment'],
  'POST /api/projects/:project/environments/:name/deployments': ['deploy', 'Deploy, promote or revert'],
  'GET /api/projects/:project/deployments/:number': ['getDeployment', 'Show a deployment with its steps'],
  'POST /api/projects/:project/deployments/:number/stop': ['stopDeployment', 'Stop a deployment on its way'],
  'POST /api/projects/:project/environments/:name/hold': ['hold', 'Hold an environment: nothing new is deployed there'],
  'POST /api/projects/:project/environments/:name/lift': ['lift', 'Lift the hold of an environment'],
  'GET /api/projects/:project/environments/:name/cutover': ['getCutover', 'Show the steps of the traffic'],
  'GET /api/projects/:project/environments/:name/cutover/first-look': [
    'firstLook',
    'Send one request to the new release',
  ],
  'POST /api/projects/:project/environments/:name/cutover': ['orderCutover', 'Continue, pause or reverse the cutover'],
  'GET /api/projects/:project/environments/:name/revert': ['previewRevert', 'Show what a revert would bring back'],
  'GET /api/projects/:project/environments/:name/rules': ['getRules', 'Show the rules of an environment'],
  'POST /api/projects/:project/environments/:name/rules': ['acceptRules', 'Accept rules that a commit has loosened'],
  'POST /api/projects/:project/environments/:name/freeze': ['freeze', 'Freeze an environment'],
  'DELETE /api/projects/:project/environments/:name/freeze': ['unfreeze', 'End the freeze of an environment'],
  'POST /api/projects/:project/environments/:name/approvals': [
    'approve',
    'Approve a release, or withdraw the approval',
  ],
  'POST /api/joint-promotions': ['promoteTogether', 'Promote releases of several projects at one moment'],
  'GET /api/joint-promotions/:number': ['getJointPromotion', 'Show a joint promotion'],
  'POST /api/joint-promotions/:number/back': ['revertTogether', 'Revert a joint promotion'],
  'POST /api/projects/:project/environments/:name/restart': ['restart', 'Restart the programs of an environment'],
  'POST /api/projects/:project/environments/:name/scale': ['scale', 'Change the number or size of instances'],
  'POST /api/projects/:project/environments/:name/copies': [
    'allowCopies',
    'Allow or forbid copies of the data for reviews',
  ],
  'GET /api/projects/:project/environments/:name/resources': ['listResources', 'List databases and volumes'],
  'GET /api/projects/:project/environments/:name/resources/:resource': ['getResource', 'Show a database or volume'],
  'DELETE /api/projects/:project/environments/:name/resources/:resource': [
    'removeResource',
    'Remove a database or volume',
  ],
  'GET /api/projects/:project/environments/:name/resources/:resource/removal': [
    'previewResourceRemoval',
    'Show what removing a database or volume deletes',
  ],
  'GET /api/projects/:project/environments/:name/resources/:resource/tables': [
    'listTables',
    'List the tables of a database',
  ],
  'GET /api/projects/:project/environments/:name/resources/:resource/rows': ['getRows', 'Read rows of a table'],
  'POST /api/projects/:project/environments/:name/resources/:resource/logins': [
    'openResource',
    'Make a login for a person',
  ],
  'DELETE /api/projects/:project/environments/:name/resources/:resource/logins/:id': [
    'closeResource',
    'End the login of a person',
  ],
  'GET /api/projects/:project/environments/:name/resources/:resource/logins/:id/stream': [
    'connectResource',
    'Connect to a database over a WebSocket',
  ],
  'POST /api/projects/:project/environments/:name/resources/:resource/snapshots': [
    'makeSnapshot',
    'Make a scrubbed copy for reviews',
  ],
  'POST /api/projects/:project/environments/:name/resources/:resource/rotate': [
    'rotatePassword',
    'Rotate the password of a database',
  ],
  'POST /api/projects/:project/environments/:name/resources/:resource/backups': ['makeBackup', 'Make a backup'],
  'GET /api/projects/:project/environments/:name/resources/:resource/backups/:number/bytes': [
    'getBackup',
    'Get the bytes of a backup',
  ],
  'DELETE /api/projects/:project/environments/:name/resources/:resource/backups/:number': [
    'removeBackup',
    'Delete a backup',
  ],
  'POST /api/projects/:project/environments/:name/resources/:resource/restore': ['restoreBackup', 'Restore a backup'],
  'POST /api/projects/:project/environments/:name/resources/:resource/connect': [
    'connectElsewhere',
    'Use a database that is kept elsewhere',
  ],
  'GET /api/projects/:project/environments/:name/addresses': ['listAddresses', 'List addresses'],
  'POST /api/projects/:project/environments/:name/addresses': ['addAddress', 'Add an address'],
  'POST /api/projects/:project/environments/:name/addresses/rename': [
    'renameAddress',
    'Change the own name of an environment',
  ],
  'POST /api/projects/:project/environments/:name/addresses/:host/check': [
    'checkAddress',
    'Check the proof of an address now',
  ],
  'DELETE /api/projects/:project/environments/:name/addresses/:host': ['removeAddress', 'Remove an address'],
  'GET /api/projects/:project/environments/:name/jobs': ['listJobs', 'List jobs'],
  'GET /api/projects/:project/environments/:name/jobs/:job': ['getJob', 'Show a job with its last attempts'],
  'POST /api/projects/:project/environments/:name/jobs/:job/run': ['runJob', 'Start a job now'],
  'POST /api/projects/:project/environments/:name/jobs/:job/stop': ['stopJob', 'Stop a job'],
  'GET /api/projects/:project/environments/:name/terminals': ['listTerminals', 'List terminals'],
  'POST /api/projects/:project/environments/:name/terminals': ['openTerminal', 'Open a terminal or run a command'],
  'DELETE /api/projects/:project/environments/:name/terminals/:id': ['closeTerminal', 'Close a terminal'],
  'GET /api/projects/:project/environments/:name/terminals/:id/stream': [
    'connectTerminal',
    'Connect to a terminal over a WebSocket',
  ],
  'GET /api/projects/:project/environments/:name/pictures': ['listPictures', 'List screenshots'],
  'POST /api/projects/:project/environments/:name/pictures': ['takePictures', 'Retake the screenshots'],
  'GET /api/projects/:project/environments/:name/pictures/:id/:page/:file': ['getPicture', 'Get a screenshot'],
  'GET /api/reviews': ['listReviews', 'List reviews'],
  'GET /api/projects/:project/reviews': ['listReviewsOf', 'List the reviews of a project'],
  'POST /api/projects/:project/reviews': ['openReview', 'Open a review of a branch or pull request'],
  'POST /api/gate': ['passGate', 'Pass the sign-in of a guarded environment'],
  'GET /api/projects/:project/environments/:name/links': [
    'listLinks',
    'List the links that anyone may open a review with',
  ],
  'POST /api/projects/:project/environments/:name/links': [
    'makeLink',
    'Make a link that anyone may open a review with',
  ],
  'DELETE /api/projects/:project/environments/:name/links': ['revokeLinks', 'Revoke all links of a review'],
  'POST /api/projects/:project/environments/:name/branch': [
    'startRunOfReview',
    'Start a run of the branch of a review',
  ],
  'POST /api/projects/:project/environments/:name/wake': ['wake', 'Wake a review'],
  'POST /api/projects/:project/environments/:name/sleep': ['sleep', 'Put a review to sleep'],
  'POST /api/projects/:project/environments/:name/keep': ['keep', 'Postpone the automatic closing of a review'],
  'POST /api/projects/:project/environments/:name/reset': ['reset', 'Reset the data of a review'],
  'POST /api/projects/:project/environments/:name/close': ['close', 'Close a review'],
  'GET /api/projects/:project/variables': ['listVariables', 'List variables; secrets have no values'],
  'POST /api/projects/:project/variables': ['setVariables', 'Set or delete variables'],
  'POST /api/projects/:project/variables/preview': [
    'previewVariables',
    'Show what a change of variables would restart',
  ],
  'GET /badge/:file': ['getBadge', 'Get a badge as SVG'],
  'GET /picture/:file': ['getSharedPicture', 'Get a screenshot by its signed address'],
  'POST /api/sources/:project/events': ['sendEvent', 'Report an event of a code host (CloudEvents, signed)'],
};

/** Requests that change nothing or have no caller: they take no Idempotency-Key. */
const withoutKey = new Set([
  'POST /api/sign-in',
  'POST /api/sign-out',
  'POST /api/alerts/:name/test',
  'POST /api/destinations/:name/test',
  'POST /api/definitions/check',
  'POST /api/sources/branches',
  'POST /api/sources/proposal',
  'POST /api/sources/:project/events',
  'POST /api/gate',
  'POST /api/projects/:project/draft/commit',
  'POST /api/projects/:project/variables/preview',
]);

/** Bodies that a reader can start from. */
export const examples: Record<string, object> = {
  'POST /api/sign-in': { code: 'tsc_3kq8w1…' },
  'POST /api/projects': { name: 'sailings', source: 'hosted' },
  'POST /api/projects/:project/runs': { ref: 'main' },
  'POST /api/projects/:project/environments/:name/deployments': { kind: 'promote', release: 12 },
  'POST /api/projects/:project/environments/:name/hold': { why: 'The timetable changes at noon.' },
  'POST /api/joint-promotions': {
    environment: 'production',
    projects: [
      { project: 'sailings', release: 12 },
      { project: 'tide-tables', release: 4 },
    ],
  },
  'POST /api/tokens': { name: 'release-script', role: 'releaser', days: 90 },
  'POST /api/people': { name: 'Ada Berg', role: 'developer' },
};

/** Part of the path → heading under which the operation is listed. */
const tagOf = (path: string): string => {
  const piece = /^\/api\/projects\/:project\/environments\/:name\/([a-z]+)/.exec(path)?.[1];
  if (piece)
    return ['resources', 'addresses', 'jobs', 'terminals', 'pictures'].includes(piece) ? piece : 'environments';
  const of = /^\/api\/projects\/:project\/([a-z]+)/.exec(path)?.[1];
  if (of) return ['attempts', 'commits', 'tasks', 'plan'].includes(of) ? 'runs' : of;
  return /^\/(?:api\/)?([a-z-]+)/.exec(path)?.[1] ?? 'service';
};

/** Statuses of refusals, by what a request has. */
function refusals(method: string, url: string): number[] {
  const needed = access[`${method} ${url}`];
  const changes = method !== 'GET';
  return [
    400,
    ...(needed === 'anyone' ? [] : [401, 403]),
    ...(url.includes(':') ? [404] : []),
    ...(changes ? [409, 413, 415, 422] : []),
    429,
    500,
    503,
  ];
}

const codesOf = (status: number): string =>
  Object.entries(registry)
    .filter(([, one]) => one.status === status)
    .map(([code]) => `\`${code}\``)
    .slice(0, 40)
    .join(', ');

const refusal = (status: number) => ({
  description: `${STATUS_CODES[status]}. Codes: ${codesOf(status) || '`internal`'}.`,
  content: { 'application/problem+json': { schema: Problem } },
});

interface Given {
  // biome-ignore lint/suspicious/noExplicitAny: a schema of a route, of any shape
  schema: any;
  url: string;
  route: { method: string | readonly string[] };
}

/** The schema of a route as the document shows it. Throws where a documented route has no row in `operations`. */
export function describeRoute({ schema, url, route }: Given): { schema: Given['schema']; url: string } {
  const method = [route.method].flat().find((one) => one !== 'HEAD') ?? 'GET';
  const key = `${method} ${url}`;
  const needed = access[key];
  const row = operations[key];
  if (needed === undefined || needed === 'agent' || needed === 'edge' || needed === 'git')
    return { schema: { hide: true }, url };
  if (!row) throw new Error(`no row of operations for ${key}`);
  const [operationId, summary] = row;
  const keyed = method !== 'GET' && needed !== 'anyone' && !withoutKey.has(key);
  const response = schema?.response ?? { 200: { description: 'OK' } };
  const described = Object.fromEntries(
    // biome-ignore lint/suspicious/noExplicitAny: as above
    Object.entries<any>(response).map(([status, one]) => [
      status,
      { ...one, description: one.description ?? STATUS_CODES[Number(status)] ?? 'OK' },
    ]),
  );
  const example = examples[key];
  return {
    url,
    schema: {
      ...schema,
      operationId,
      summary,
      tags: [tagOf(url)],
      description: roleText(needed),
      ...(needed === 'anyone' || needed === 'signature' ? { security: [] } : {}),
      ...(keyed
        ? {
            headers: {
              type: 'object',
              required: ['Idempotency-Key'],
              properties: {
                'Idempotency-Key': {
                  type: 'string',
                  minLength: 8,
                  maxLength: 200,
                  description: 'A text of your choice. A repeat with the same key gets the same response.',
                },
              },
            },
          }
        : {}),
      ...(example && schema?.body ? { body: { ...schema.body, examples: [example] } } : {}),
      response: {
        ...described,
        ...Object.fromEntries(refusals(method, url).map((status) => [status, refusal(status)])),
      },
    },
  };
}

const roleText = (needed: string): string =>
  needed === 'anyone'
    ? 'Needs no token.'
    : needed === 'signature'
      ? 'Needs a signature, not a token.'
      : `Needs the role ${needed}.`;

/** The paths of all routes, for the answer to a method that a path does not take. */
export function openMethods(): {
  add(method: string, path: string): void;
  /** Methods that the path takes. */
  of(path: string): string[];
} {
  const known: { method: string; pattern: RegExp }[] = [];
  return {
    add(method, path) {
      const pattern = new RegExp(`^${path.replace(/[.*+?^${}()|[\]\\]/g, '\\$&').replace(/:[A-Za-z]+/g, '[^/]+')}$`);
      known.push({ method, pattern });
    },
    of: (path) => [...new Set(known.filter(({ pattern }) => pattern.test(path)).map(({ method }) => method))].sort(),
  };
}
