/** Which of the things that a page has asked for an event of the feed may have changed. Everything else stays as it is. */
import type { Event } from '../../../src/wire/overview';

type Key = readonly unknown[];

/** What a kind of event changes in its project, by the first word of its type. */
const inProject: Record<string, readonly string[]> = {
  release: ['releases', 'compare', 'promotion', 'run', 'environment', 'environments'],
  evidence: ['releases', 'promotion'],
  environment: ['environment', 'environments', 'promotion', 'removal'],
  review: ['environments'],
  rules: ['environment', 'environments', 'promotion'],
  freeze: ['environment', 'environments', 'promotion'],
  approval: ['environment', 'environments', 'promotion', 'releases'],
  deployment: ['deployment', 'environment', 'environments', 'promotion', 'cutover', 'compare', 'releases'],
  traffic: ['environment', 'environments', 'cutover'],
  cutover: ['cutover', 'environment'],
  together: ['environment', 'environments', 'promotion'],
  instance: ['deployment', 'environment', 'environments', 'resource'],
  resource: ['resource', 'resources', 'environment', 'removal'],
  login: ['resource'],
  job: ['environment'],
  terminal: ['terminals'],
  address: ['addresses', 'environment', 'environments'],
  snapshot: ['resource', 'resources', 'environment'],
  picture: ['pictures', 'environments', 'environment'],
  backup: ['resource', 'resources', 'environment'],
  restore: ['resource', 'resources', 'environment'],
  variables: ['variables', 'environment', 'environments', 'promotion'],
  definition: ['project', 'draft', 'plan', 'environment', 'environments', 'variables', 'promotion'],
  push: ['project', 'draft', 'plan'],
  branch: ['project', 'plan'],
  'pull-request': ['environment', 'environments', 'plan'],
  source: ['project'],
  intake: ['project'],
};
const ofRuns = ['run', 'task', 'attempt'];
/** What shows many things at once is asked for again less often. */
const lists = ['board', 'runs', 'projects', 'reviews', 'activity'];

export const isList = (key: Key): boolean => lists.includes(String(key[0]));

export function changes(event: Pick<Event, 'type' | 'source' | 'subject'>): (key: Key) => boolean {
  const kind = event.type.replace(/^dev\.tsunagi\./, '').split('.')[0] ?? '';
  const project = /^\/projects\/(.+)$/.exec(event.source)?.[1] ?? null;
  const run = /^run (\d+)$/.exec(event.subject)?.[1] ?? null;
  return (key) => {
    const [what, of, number] = key.map(String);
    if (what === 'alerts') return kind === 'alert' || kind === 'delivery';
    if (what === 'cost') return kind === 'prices';
    if (what === 'destinations') return kind === 'destination';
    if (what === 'me' || what === 'sessions') return kind === 'person' || kind === 'token';
    if (isList(key)) return kind !== 'person' && kind !== 'token' && kind !== 'key';
    // Of an agent that comes or goes a waiting run says so.
    if (kind === 'agent' || kind === 'edge') return what === 'run' || what === 'environment';
    if (project === null || of !== project) return false;
    if (kind === 'project') return true;
    if (ofRuns.includes(kind))
      return ['run', 'why', 'why-task', 'coverage'].includes(what ?? '') && (run === null || number === run);
    return inProject[kind]?.includes(what ?? '') ?? false;
  };
}
