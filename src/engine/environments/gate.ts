/** Who may look at a review: what main says, links that people give away, and what a browser is let in with. */
import { createHash, timingSafeEqual } from 'node:crypto';
import type { Route } from '../../core/cutover/route.js';
import type { EnvironmentPlan } from '../../core/definition/model.js';
import { CodedError } from '../../core/errors/errors.js';
import type { ReviewAccess } from '../../core/states.js';
import { newToken, tokenHash } from '../../keys/keys.js';
import { leadTo, routeBody } from '../../records/callers/edges.js';
import {
  addLink,
  addPass,
  type LinkRow,
  goodPass,
  linksOf,
  removeLinks,
  takeLink,
} from '../../records/callers/passes.js';
import { type EnvironmentRow, environmentsOf } from '../../records/deployments/environments.js';
import { recordEvents } from '../../records/events.js';
import { mainDefinition, type ProjectRow } from '../../records/projects/projects.js';
import { type Context, type Db, urlOf } from '../context.js';
import { openEnvironment, placeOf } from '../deployments/acts.js';
import { picturePassIsGood } from '../pictures/pass.js';

/** Milliseconds for which a code leads from the console to a review. */
const codeMs = 60_000;
/** Milliseconds for which a browser is let in, at most, by a session and by a link. */
const sessionPassMs = 12 * 3_600_000;
const linkPassMs = 30 * 86_400_000;
/** Milliseconds for which an edge need not ask again. */
const goodMs = 60_000;
/** Links of one review that are good at a time. */
const mostLinks = 50;
/** Milliseconds for which a program's pass is good: as long as anything of it may run. */
const programMs = 12 * 3_600_000;

type Main = Awaited<ReturnType<typeof mainDefinition>>;
type Guarded = Pick<EnvironmentRow, 'kind' | 'plan_name' | 'project_id'>;

/** Who may look, as main says now. */
export const accessIn = (main: Main, { kind, plan_name }: Guarded): ReviewAccess =>
  (kind === 'review' ? main?.model.environments[plan_name]?.access : null) ?? 'open';
export const accessOf = async (db: Db, environment: Guarded): Promise<ReviewAccess> =>
  environment.kind === 'review' ? accessIn(await mainDefinition(db, environment.project_id), environment) : 'open';

/** How the edge guards it; null: it does not. */
export const gateOf = ({ url }: Pick<Context, 'url'>, access: ReviewAccess): NonNullable<Route['gate']> | null =>
  access === 'open' ? null : { access, console: url };

/**
 * What main says from now on counts at once for all reviews of a plan, whatever is live there. In the transaction in which it does, with
 * all environments of the project locked: who moves traffic meanwhile is waited for, or reads it.
 */
export async function syncGates(
  context: Pick<Context, 'url'>,
  db: Db,
  project: ProjectRow,
  plan: Pick<EnvironmentPlan, 'name' | 'access'>,
): Promise<void> {
  const gate = gateOf(context, plan.access ?? 'open');
  for (const environment of await environmentsOf(db, project.id)) {
    if (environment.kind !== 'review' || environment.plan_name !== plan.name) continue;
    const route = (await routeBody(db, environment.host)) as Route | null;
    if (!route) continue;
    const { gate: _gate, ...open } = route;
    await leadTo(db, environment, environment.serving_id, gate ? { ...open, gate } : open);
  }
}

const sha256 = (text: string): Buffer => createHash('sha256').update(text).digest();

/** The address by which somebody who has a link looks at it. */
const linkUrl = ({ addresses }: Pick<Context, 'addresses'>, host: string, token: string): string =>
  `${urlOf(addresses, host)}/_tsunagi/gate?link=${token}`;

/** Locked, open, and a review. */
async function guarded(db: Db, project: ProjectRow, name: string): Promise<EnvironmentRow> {
  const environment = await openEnvironment(db, project, name);
  if (environment.kind !== 'review')
    throw new CodedError('review_standing', { environment: placeOf(project, environment) });
  return environment;
}

/** A link that is shown once. */
export async function makeLink(
  context: Pick<Context, 'addresses' | 'now'>,
  db: Db,
  project: ProjectRow,
  { name, ms, actor }: { name: string; ms: number; actor: string },
): Promise<{ link: LinkRow; url: string }> {
  const environment = await guarded(db, project, name);
  const place = placeOf(project, environment);
  const access = await accessOf(db, environment);
  if (access !== 'link') throw new CodedError('links_needless', { environment: place, access });
  if ((await linksOf(db, environment.id)).length >= mostLinks)
    throw new CodedError('links_many', { environment: place, count: mostLinks });
  const token = newToken('link');
  const expires = new Date(context.now() + ms);
  const link = await addLink(db, { environment: environment.id, hash: tokenHash(token), actor, expires });
  await recordEvents(db, {
    type: 'review.link-made',
    project: project.id,
    subject: place,
    actor,
    data: { link: link.id.slice(-8), until: expires.toISOString() },
  });
  return { link, url: linkUrl(context, environment.host, token) };
}

/** Takes one back, or all of them; whoever came by it is out within a minute. */
export async function endLinks(
  db: Db,
  project: ProjectRow,
  { name, link, actor }: { name: string; link: string | null; actor: string },
): Promise<number> {
  const environment = await guarded(db, project, name);
  const place = placeOf(project, environment);
  const known = await linksOf(db, environment.id);
  const one = link === null ? null : known.find((each) => each.id === link || each.id.endsWith(link));
  if (link !== null && !one)
    throw new CodedError('not_found', {
      what: 'This link',
      hint: '`tsunagi review link … --list` shows those that are good.',
    });
  const count = await removeLinks(db, environment.id, one?.id ?? null);
  if (count)
    await recordEvents(db, {
      type: 'review.link-ended',
      project: project.id,
      subject: place,
      actor,
      data: { link: one ? one.id.slice(-8) : 'all', count },
    });
  return count;
}

/** Who may come by a code: it is sealed, and good once, for one host, one session and the browser that set out. */
interface Code {
  gate: 1;
  host: string;
  session: string;
  door: string;
  until: number;
}

export const codeFor = (
  { keys, now }: Pick<Context, 'keys' | 'now'>,
  of: { host: string; session: string; door: string },
): string =>
  keys
    .encrypt(JSON.stringify({ gate: 1, ...of, until: now() + codeMs } satisfies Code), codePlace)
    .toString('base64url');

/** Kept nowhere: it is on its way from the console to an edge. */
const codePlace = '["gate"]';

function readCode({ keys }: Pick<Context, 'keys'>, text: string): Code | null {
  try {
    const code = JSON.parse(keys.decrypt(Buffer.from(text, 'base64url'), codePlace)) as Partial<Code>;
    return code.gate === 1 ? (code as Code) : null;
  } catch {
    return null;
  }
}

/** A pass for a program that the service itself lets look: verify, terminals. */
export function programPass({ keys, now }: Pick<Context, 'keys' | 'now'>, environment: string): string {
  const until = Math.ceil((now() + programMs) / 60_000) * 60_000;
  return `p.${until}.${programMark(keys, environment, until)}`;
}
const programMark = (keys: Context['keys'], environment: string, until: number): string =>
  keys.hash(`gate of ${environment} until ${until}`);

/** Milliseconds for which a pass lets its holder in before it is asked for again; `quiet`: what comes with it counts nowhere. */
export async function lets(
  context: Context,
  db: Db,
  environment: EnvironmentRow,
  pass: string,
): Promise<{ ms: number; quiet?: true }> {
  const picture = await picturePassIsGood(context, db, environment.id, pass);
  if (picture !== null) return picture ? { ms: goodMs, quiet: true } : { ms: 0 };
  return { ms: await letsPeople(context, db, environment, pass) };
}

async function letsPeople(context: Context, db: Db, environment: EnvironmentRow, pass: string): Promise<number> {
  const access = await accessOf(db, environment);
  if (access === 'open') return goodMs;
  const program = /^p\.(\d{1,15})\.([0-9a-f]{64})$/.exec(pass);
  if (program) {
    const until = Number(program[1]);
    const expected = programMark(context.keys, environment.id, until);
    const same = timingSafeEqual(Buffer.from(program[2] as string), Buffer.from(expected));
    return same && until > context.now() ? goodMs : 0;
  }
  const found = await goodPass(db, tokenHash(pass), environment.id);
  return found && (found.by === 'session' || access === 'link') ? goodMs : 0;
}

export type Entered = { pass: string; seconds: number } | { why: string };

/** A link or a code for what lets a browser in. */
export async function exchange(
  context: Context,
  db: Db,
  environment: EnvironmentRow,
  { host, link, code, door }: { host: string; link?: string; code?: string; door?: string },
): Promise<Entered> {
  const pass = newToken('pass');
  const now = context.now();
  const entered = async (by: { session: string | null; link: string | null; code: Buffer | null }, until: number) =>
    (await addPass(db, { hash: tokenHash(pass), environment: environment.id, ...by, expires: new Date(until) }))
      ? { pass, seconds: Math.max(1, Math.floor((until - now) / 1_000)) }
      : { why: 'This way in was used already. Open the review once more.' };
  if (link !== undefined) {
    const found =
      (await accessOf(db, environment)) === 'link' ? await takeLink(db, tokenHash(link), environment.id) : null;
    if (!found) return { why: 'This link opens nothing any more. Ask for another one.' };
    return entered(
      { session: null, link: found.id, code: null },
      Math.min(found.expires_at.getTime(), now + linkPassMs),
    );
  }
  const read = code === undefined ? null : readCode(context, code);
  const other = 'This way in is for another browser, or too old. Open the review once more.';
  if (!read || read.host !== host || read.until < now || door === undefined) return { why: other };
  const given = sha256(door).toString('base64url');
  if (given.length !== read.door.length || !timingSafeEqual(Buffer.from(given), Buffer.from(read.door)))
    return { why: other };
  return entered({ session: read.session, link: null, code: sha256(code as string) }, now + sessionPassMs);
}
