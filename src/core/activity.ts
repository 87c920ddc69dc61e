/** What happened, in words for a list of it: who did what to what, and why. */

/** Kinds of events by their first words. What is in none of them is shown where nothing is chosen. */
export const activityGroups = {
  releases: ['deployment', 'together', 'approval', 'cutover', 'traffic', 'release', 'evidence'],
  environments: [
    'environment',
    'rules',
    'freeze',
    'variables',
    'resource',
    'backup',
    'restore',
    'snapshot',
    'address',
    'instance',
    'picture',
    'job',
    'terminal',
    'review',
    'login',
  ],
  code: [
    'project',
    'push',
    'repository',
    'records',
    'branch',
    'definition',
    'pull-request',
    'source',
    'run',
    'task',
    'attempt',
    'intake',
  ],
  house: ['person', 'token', 'session', 'key', 'agent', 'edge', 'prices', 'stray'],
  alerts: ['alert', 'delivery', 'destination', 'subscription'],
} as const;
export type ActivityGroup = keyof typeof activityGroups;
export const activityGroupNames = Object.keys(activityGroups) as ActivityGroup[];

/** Who is no person: the parts of the service itself. */
export const ownActors: readonly string[] = ['engine', 'agent'];

type Data = Readonly<Record<string, unknown>>;

const said = (value: unknown): string => (typeof value === 'string' || typeof value === 'number' ? String(value) : '');
const list = (value: unknown): string =>
  Array.isArray(value) ? value.map(said).filter(Boolean).join(', ') : said(value);
const whyOf = (data: Data): string => (said(data.why) ? `: ${said(data.why)}` : '');

/** By type: what somebody did, after their name. */
const acts: Record<string, (subject: string, data: Data) => string> = {
  'deployment.requested': (_, data) =>
    `asked for ${said(data.release)} in ${said(data.environment)}${data.kind === 'revert' ? ', as a revert' : data.kind === 'promote' ? ', as a promotion' : ''}${data.split ? ', as a split' : ''}${data.override ? `, though rules were not met: ${said((data.override as Data).why)}` : ''}`,
  'deployment.stop-asked': (subject, data) => `stopped ${subject} of ${said(data.environment)}`,
  'deployment.state': (subject, data) => `${subject} of ${said(data.environment)} is ${said(data.state)}`,
  'deployment.failing': (subject, data) => `${subject} of ${said(data.environment)} fails`,
  'deployment.replaced': (subject, data) => `${subject} of ${said(data.environment)} gave way to ${said(data.by)}`,
  'deployment.ended-old': (subject, data) => `let the programs of ${subject} in ${said(data.environment)} end`,
  'together.asked': (_, data) => `asked for ${list(data.with)} together (${said(data.joint)})`,
  'together.moved': (_, data) => `moved the traffic of ${list(data.with)} at one moment (${said(data.joint)})`,
  'together.live': (_, data) => `${list(data.with)} are live together (${said(data.joint)})`,
  'together.ended': (_, data) => `none of ${list(data.with)} went (${said(data.joint)})`,
  'together.returned': (_, data) => `took ${list(data.with)} back (${said(data.joint)})`,
  'approval.given': (subject, data) => `approved ${subject} for ${said(data.environment)}`,
  'approval.withdrawn': (subject, data) => `took the approval of ${subject} for ${said(data.environment)} back`,
  'cutover.ordered': (subject, data) => `said “${said(data.order)}” to the traffic of ${subject}`,
  'traffic.moved': (subject, data) => `moved the traffic of ${subject} to ${said(data.release)}`,
  'environment.held': (subject, data) => `put ${subject} on hold${whyOf(data)}`,
  'environment.lifted': (subject) => `lifted the hold of ${subject}`,
  'environment.restarted': (subject) => `restarted programs of ${subject}`,
  'environment.scaled': (subject) => `changed the size of ${subject}`,
  'freeze.set': (subject, data) => `froze ${subject} until ${said(data.until)}${whyOf(data)}`,
  'freeze.ended': (subject) => `ended the freeze of ${subject}`,
  'rules.accepted': (subject) => `accepted the rules that main declares for ${subject}`,
  'rules.loosened': (subject) => `declared less for ${subject} than what counts`,
  'variables.changed': (subject, data) =>
    `changed variables of ${subject}${said(data.set) ? `: set ${said(data.set)}` : ''}${said(data.removed) ? `${said(data.set) ? ';' : ':'} removed ${said(data.removed)}` : ''}`,
  'push.recorded': (subject, data) => `pushed to ${subject}: ${said(data.title)}`,
  'push.refused': (subject) => `pushed to ${subject}, and was refused`,
  'records.restored': () => 'found that the records had been restored: each edge begins its table again',
  'repository.filtered': (subject, data) => `${subject} has files that are pointers (${said(data.attribute)})`,
  'repository.cleared': (subject, data) =>
    `deleted ${said(data.count)} refs that do not belong in the repository of ${subject}: ${said(data.refs)}`,
  'branch.removed': (subject) => `removed the branch ${subject}`,
  'pull-request.opened': (subject, data) => `opened ${subject}: ${said(data.title)}`,
  'pull-request.updated': (subject, data) => `pushed to ${subject}: ${said(data.title)}`,
  'pull-request.closed': (subject) => `closed ${subject}`,
  'evidence.recorded': (subject, data) => `gave evidence about ${subject} (${said(data.kind)})`,
  'environment.made': (subject) => `made the environment ${subject}`,
  'environment.closing': (subject) => `closes ${subject}`,
  'environment.closed': (subject) => `closed ${subject}`,
  'environment.kept': (subject) => `keeps ${subject}`,
  'environment.copies': (subject) => `said who may copy ${subject}`,
  'environment.health': (subject, data) => `${subject} is in ${said(data.health)} health`,
  'review.link-made': (subject) => `made a link to ${subject}`,
  'review.link-ended': (subject) => `ended a link to ${subject}`,
  'resource.access': (subject) => `opened ${subject} for an hour`,
  'address.added': (subject) => `added the address ${subject}`,
  'address.removed': (subject) => `removed the address ${subject}`,
  'job.begun': (subject) => `began ${subject}`,
  'job.stop-asked': (subject) => `stopped ${subject}`,
  'prices.set': (subject) => `set ${subject}`,
  'definition.drafted': (subject) => `drafted a definition for ${subject}`,
  'definition.refused': (subject) => `pushed a definition of ${subject} that is not one`,
  'run.recorded': (subject, data) => `began ${subject} (${said(data.cause)})`,
  'run.stop-asked': (subject) => `stopped ${subject}`,
  'run.ended': (subject, data) => `${subject} ${said(data.state)}`,
  'run.allowed': (subject) => `allowed ${subject}`,
  'release.made': (subject) => `${subject} was made`,
  'release.imported': (subject) => `took ${subject} in from elsewhere`,
  'definition.accepted': (subject) => `changed the definition of ${subject}`,
  'project.added': (subject) => `added the project ${subject}`,
  'project.removed': (subject) => `removed the project ${subject}`,
  'project.paused': (subject) => `paused ${subject}`,
  'project.resumed': (subject) => `let ${subject} go on`,
  'person.added': (subject) => `let ${subject} in`,
  'person.removed': (subject) => `removed ${subject}`,
  'person.invited': (subject) => `made a new sign-in for ${subject}`,
  'person.role': (subject, data) => `made ${subject} ${said(data.role)}`,
  'token.added': (subject) => `made the token ${subject}`,
  'token.removed': (subject) => `took the token ${subject} back`,
  'key.rotated': (subject) => `made ${subject} anew`,
  'resource.removal-asked': (subject) => `asked for the removal of ${subject}`,
  'restore.asked': (subject) => `asked to put ${subject} back`,
  'backup.asked': (subject) => `asked for a backup of ${subject}`,
  'terminal.opened': (subject) => `opened a terminal in ${subject}`,
};

/** A sentence of one event, without who did it; `type` without its prefix. One that has no words of its own is told by its name. */
export function activityText({ type, subject, data }: { type: string; subject: string; data: Data }): string {
  const known = acts[type];
  return known ? known(subject, data) : `${type.replaceAll('.', ' ').replaceAll('-', ' ')}: ${subject}`;
}
