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

/** Of deployments that go together. How each is entered and left: `core/cutover/joint.ts`. */
export const jointStates = ['gathering', 'moved', 'live', 'ended', 'returned'] as const;
export type JointState = (typeof jointStates)[number];
/** It is not known yet whether they go. */
export const jointMoving = (state: JointState): boolean => state === 'gathering' || state === 'moved';

/** How each is entered and left: `core/advance/life.ts`. */
export const environmentStates = ['empty', 'live', 'falling asleep', 'asleep', 'waking', 'closing', 'closed'] as const;
export type EnvironmentState = (typeof environmentStates)[number];

/** How deep an environment sleeps: its programs stand still with all that they have in memory, or nothing of them is left. */
export const sleepDepths = ['frozen', 'ended'] as const;
export type SleepDepth = (typeof sleepDepths)[number];

/** What is asked of an environment. */
export type Wish = 'awake' | 'asleep';

/** What counts as use of an environment, besides pushes. */
export const useKinds = ['requests', 'connections', 'workers', 'jobs'] as const;
export type UseKind = (typeof useKinds)[number];

export const healths = ['good', 'poor', 'down'] as const;
export type Health = (typeof healths)[number];

/**
 * State of one instance.
 * waiting → starting (claimed by an agent) → ready → ended, or failed from starting and ready; lost when its agent went away.
 * ready → frozen → ready while its environment sleeps.
 */
export const instanceStates = ['waiting', 'starting', 'ready', 'frozen', 'failed', 'ended', 'lost'] as const;
export type InstanceState = (typeof instanceStates)[number];

export const resourceKinds = ['postgres', 'volume'] as const;
export type ResourceKind = (typeof resourceKinds)[number];

/** How each is entered and left: `core/advance/resources.ts`. */
export const resourceStates = ['asked', 'making', 'ready', 'removing', 'removed', 'failed'] as const;
export type ResourceState = (typeof resourceStates)[number];

/** Where a resource is made: on the server of standing environments, of reviews, of work that is not trusted, or on one elsewhere. */
export const resourcePlaces = ['standing', 'review', 'untrusted', 'elsewhere'] as const;
export type ResourcePlace = (typeof resourcePlaces)[number];

/** How each is entered and left: `core/advance/addresses.ts`. */
export const addressStates = ['wanted', 'proven', 'certified', 'failed'] as const;
export type AddressState = (typeof addressStates)[number];

/** Given to an environment by the service; or a name of its own, which somebody has to prove. */
export const addressKinds = ['given', 'own'] as const;
export type AddressKind = (typeof addressKinds)[number];

/** Where a certificate comes from: an authority by ACME (RFC 8555), the service's own authority, or the operator's files. */
export const certificateSources = ['acme', 'local', 'operator'] as const;
export type CertificateSource = (typeof certificateSources)[number];

/** One telling of something: how it is entered and left stands in `core/advance/deliveries.ts`. */
export const deliveryStates = ['waiting', 'delivered', 'given up'] as const;
export type DeliveryState = (typeof deliveryStates)[number];

/** Ways out: states to a code host, signed events to a webhook, mail. */
export const channelKinds = ['code-host', 'webhook', 'mail'] as const;
export type ChannelKind = (typeof channelKinds)[number];

/** What a hosted project can begin with. */
export const beginningKinds = ['node-api', 'python-api', 'java-api', 'site', 'site-and-api', 'worker'] as const;
export type BeginningKind = (typeof beginningKinds)[number];

/** Where logs go on to: syslog (RFC 5424) over TCP or TLS, or OTLP over HTTP. */
export const destinationKinds = ['syslog', 'otlp'] as const;
export type DestinationKind = (typeof destinationKinds)[number];

/** What alerts are about: each begins and ends. */
export const alertTopics = [
  'deployment-failed',
  'cutover-waits',
  'health-poor',
  'main-failed',
  'address-failing',
  'resource-failed',
  'volume-full',
  'database-full',
  'backup-failed',
  'job-failed',
  'destination-failing',
  'agent-unreachable',
  'edge-unreachable',
  'disk-full',
  'repository-altered',
  'repository-filtered',
  'run-unplaced',
] as const;
export type AlertTopic = (typeof alertTopics)[number];

/** What each person may be told of their own. */
export const ownTopics = ['my-run-failed', 'my-run-passed', 'my-review-live'] as const;
export type OwnTopic = (typeof ownTopics)[number];

/** What programs may do with a database, by its size; how it is entered and left: `core/advance/sizes.ts`. */
export const databaseAccesses = ['open', 'reading', 'shut'] as const;
export type DatabaseAccess = (typeof databaseAccesses)[number];

/** A copy of a resource: asked → making → kept → removed, or failed. */
export const backupStates = ['asked', 'making', 'kept', 'removed', 'failed'] as const;
export type BackupState = (typeof backupStates)[number];

/** Files on one agent: being made; the ones that programs use; left behind where others took their place; on their way out; gone. */
export const volumeStates = ['making', 'there', 'left', 'removing', 'removed'] as const;
export type VolumeState = (typeof volumeStates)[number];

/** What the size of a volume is held by: a file system of its own, or by counting, which stops nobody at once. */
export const volumeHolds = ['filesystem', 'counting'] as const;
export type VolumeHold = (typeof volumeHolds)[number];

/** What an agent does to a volume of its own; how it goes on: `core/advance/chores.ts`. */
export const choreActs = ['make', 'enlarge', 'restore', 'back up', 'try', 'remove'] as const;
export type ChoreAct = (typeof choreActs)[number];
export const choreStates = ['asked', 'given', 'done', 'failed', 'dropped'] as const;
export type ChoreState = (typeof choreStates)[number];

/** Of a copy of a database that reviews are made of (see core/advance/snapshots.ts). */
export const snapshotStates = [
  'asked',
  'copying',
  'scrubbing',
  'settling',
  'ready',
  'removing',
  'failed',
  'removed',
] as const;
export type SnapshotState = (typeof snapshotStates)[number];

/** Of the pictures of a deployment (see core/pictures/steps.ts). */
export const pictureStates = ['asked', 'taking', 'taken', 'failed', 'left out'] as const;
export type PictureState = (typeof pictureStates)[number];

/** It is made just now. */
export const snapshotComing = (state: SnapshotState): boolean =>
  state === 'asked' || state === 'copying' || state === 'scrubbing' || state === 'settling';

/** Who has a login: the parts of a deployment, one try of its prepare, a person. */
export const loginUses = ['parts', 'prepare', 'person'] as const;
export type LoginUse = (typeof loginUses)[number];

/** What opens a resource: asked → ready (its server knows it) → ending (it shall go) → ended. */
export const loginStates = ['asked', 'ready', 'ending', 'ended'] as const;
export type LoginState = (typeof loginStates)[number];

/** Of a person's terminal in an environment (see core/advance/terminals.ts). */
export const terminalStates = ['asked', 'wanted', 'given', 'open', 'ended'] as const;
export type TerminalState = (typeof terminalStates)[number];

/** Why one ended: its program did, its person left, nothing was typed or printed for too long, for as long as one may last, somebody ended it, it could not begin, a side of it was lost. */
export const terminalEnds = ['exit', 'left', 'idle', 'too long', 'by hand', 'failed', 'lost'] as const;
export type TerminalEnd = (typeof terminalEnds)[number];

export const roles = ['viewer', 'developer', 'releaser', 'owner'] as const;
export type Role = (typeof roles)[number];
/** Whether `role` may do what `needed` may do. */
export const atLeast = (role: Role, needed: Role): boolean => roles.indexOf(role) >= roles.indexOf(needed);

export const partKinds = ['site', 'server', 'worker', 'job'] as const;
export type PartKind = (typeof partKinds)[number];

/** How a deployment came about. */
export const deploymentKinds = ['automatic', 'deploy', 'promote', 'revert'] as const;
export type DeploymentKind = (typeof deploymentKinds)[number];

export const sourceKinds = ['hosted', 'notified', 'polled'] as const;
export type SourceKind = (typeof sourceKinds)[number];

/** Who may look at a review: everybody, people who are signed in, these and whoever has a link. */
export const reviewAccesses = ['open', 'signed-in', 'link'] as const;
export type ReviewAccess = (typeof reviewAccesses)[number];
export type GuardedAccess = Exclude<ReviewAccess, 'open'>;

/** What an attempt works on: a task of a run, or a command of a deployment. */
export const attemptKinds = ['task', 'prepare', 'seed', 'scrub', 'verify', 'job', 'picture'] as const;
export type AttemptKind = (typeof attemptKinds)[number];

export const taskEnded = (state: TaskState): boolean => state !== 'waiting' && state !== 'ready' && state !== 'running';
export const attemptEnded = (state: AttemptState): boolean => state !== 'waiting' && state !== 'running';
/** Deployments that are on their way. */
export const deploymentMoving = (state: DeploymentState): boolean =>
  state === 'queued' || state === 'preparing' || state === 'starting' || state === 'cutover' || state === 'verifying';

/** What an agent takes: runs of the project's own, runs of untrusted pull requests, what is live (instances, prepare, verify). */
export const takesKinds = ['runs', 'untrusted', 'live'] as const;
export type Takes = (typeof takesKinds)[number];

/** What a release's evidence may be. */
export const evidenceKinds = ['task', 'verification', 'health', 'approval', 'comparison', 'import'] as const;
export type EvidenceKind = (typeof evidenceKinds)[number];
