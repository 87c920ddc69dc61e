/** The lists of states, roles and kinds: the words of the glossary, once. */

export const runStates = ['waiting', 'running', 'passed', 'failed', 'stopped', 'superseded'] as const;
export type RunState = (typeof runStates)[number];

export const taskStates = [
  'waiting',
  'ready',
  'running',
  'passed',
  'reused',
  'failed',
  'skipped',
  'stopped',
  'superseded',
] as const;
export type TaskState = (typeof taskStates)[number];

export const attemptStates = ['waiting', 'running', 'passed', 'failed', 'stopped', 'lost'] as const;
export type AttemptState = (typeof attemptStates)[number];

export const deploymentStates = [
  'queued',
  'preparing',
  'starting',
  'cutover',
  'verifying',
  'live',
  'replaced',
  'failed',
  'reverted',
] as const;
export type DeploymentState = (typeof deploymentStates)[number];

export const environmentStates = ['empty', 'live', 'asleep', 'closing', 'closed'] as const;
export type EnvironmentState = (typeof environmentStates)[number];

export const healths = ['good', 'poor', 'down'] as const;
export type Health = (typeof healths)[number];

/**
 * State of one instance.
 * waiting → starting (claimed by an agent) → ready → ended, or failed from starting and ready; lost when its agent went away.
 */
export const instanceStates = ['waiting', 'starting', 'ready', 'failed', 'ended', 'lost'] as const;
export type InstanceState = (typeof instanceStates)[number];

export const roles = ['viewer', 'developer', 'releaser', 'owner'] as const;
export type Role = (typeof roles)[number];
/** Whether `role` may do what `needed` may do. */
export const atLeast = (role: Role, needed: Role): boolean => roles.indexOf(role) >= roles.indexOf(needed);

export const partKinds = ['site', 'server', 'worker'] as const;
export type PartKind = (typeof partKinds)[number];

/** How a deployment came about. */
export const deploymentKinds = ['automatic', 'deploy', 'promote', 'revert'] as const;
export type DeploymentKind = (typeof deploymentKinds)[number];

export const sourceKinds = ['hosted', 'notified', 'polled'] as const;
export type SourceKind = (typeof sourceKinds)[number];

/** What an attempt works on: a task of a run, or a command of a deployment. */
export const attemptKinds = ['task', 'prepare', 'verify'] as const;
export type AttemptKind = (typeof attemptKinds)[number];

export const taskEnded = (state: TaskState): boolean => state !== 'waiting' && state !== 'ready' && state !== 'running';
export const attemptEnded = (state: AttemptState): boolean => state !== 'waiting' && state !== 'running';
/** Deployments that are on their way. */
export const deploymentMoving = (state: DeploymentState): boolean =>
  state === 'queued' || state === 'preparing' || state === 'starting' || state === 'cutover' || state === 'verifying';

/** What an agent takes: runs of the project's own, runs of untrusted pull requests, what is live (instances, prepare, verify). */
export const takesKinds = ['runs', 'untrusted', 'live'] as const;
export type Takes = (typeof takesKinds)[number];
