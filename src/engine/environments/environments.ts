/** What environments take by themselves; and the rest of their lives, when its time has come. */
import { newerThan, releaseSource } from '../../core/advance/enter.js';
import { takes } from '../../core/advance/environments.js';
import { CodedError, type Issue, issue, registry } from '../../core/errors/errors.js';
import { type Judgement, judgePromotion } from '../../core/rules/promotion.js';
import { untilText } from '../../core/rules/rules.js';
import { history } from '../../git/repository.js';
import { briefDeploymentsOf, movingDeployments, releasedBy, asPast } from '../../records/deployments/deployments.js';
import {
  environmentById,
  type EnvironmentRow,
  lockEnvironment,
  setWaits,
} from '../../records/deployments/environments.js';
import { projectById, type ProjectRow } from '../../records/projects/projects.js';
import {
  findRelease,
  newestOfPullRequest,
  type ReleaseRow,
  releasesOfCommits,
} from '../../records/deployments/releases.js';
import { type Due, dueBy, settleDue } from '../../records/runs/runs.js';
import { syncAddresses } from '../domains/acts.js';
import { askDeployment } from '../deployments/acts.js';
import { beginAtOnce } from '../deployments/deployments.js';
import { settleAuthors } from '../promotion/approvals.js';
import { verifiedRelease } from '../promotion/promotions.js';
import { promotionFacts, ruled, type Ruled } from '../promotion/rules.js';
import { dueAfter, waitForHealth } from '../../records/deployments/rules.js';
import { shownSecrets } from '../../core/variables/resolve.js';
import { stepLife } from './life.js';
import { variablesFor } from './variables.js';
import { resourcesOf } from '../../records/resources/resources.js';
import { branchHead } from '../../records/projects/sources.js';
import { type Context, type Db, repositoryOf } from '../context.js';

export async function stepEnvironment(context: Context, due: Due): Promise<void> {
  const { id } = due;
  const environment = await environmentById(context.records, id);
  const project = await projectById(context.records, environment.project_id);
  const { state } = environment;
  if (state === 'closing' || state === 'falling asleep' || state === 'waking') await goOn(context, environment, due);
  else await takeByItself(context, project, environment, due);
}

/** On its way to sleep, awake, or to its end. */
async function goOn(context: Context, seen: EnvironmentRow, due: Due): Promise<void> {
  const sessions =
    seen.state === 'falling asleep' && seen.depth === 'frozen' ? await sessionsOf(context, seen.id) : null;
  await context.records.transition(`environment.${seen.state.replace(' ', '-')}`, async (db) => {
    const environment = await lockEnvironment(db, seen.id);
    await settleDue(db, 'environments', due, null);
    await stepLife({ context, db, environment }, sessions);
  });
}

/** Sessions of its databases that are in the middle of something; a server that does not answer tells of none, and the look is repeated. */
async function sessionsOf(context: Context, id: string): Promise<number | null> {
  const rows = (await resourcesOf(context.records, id)).filter(
    (row) => row.kind === 'postgres' && row.state === 'ready',
  );
  try {
    let busy = 0;
    for (const place of new Set(rows.map((row) => row.place))) {
      const own = rows.filter((row) => row.place === place && place !== 'elsewhere');
      if (own[0]) busy += await context.kinds.database(own[0]).busy(own.map((row) => row.id));
    }
    return busy;
  } catch (error) {
    context.log.warn({ environment: id, error: String(error) }, 'the sessions of an environment were not seen');
    return null;
  }
}

async function takeByItself(context: Context, project: ProjectRow, seen: EnvironmentRow, due: Due): Promise<void> {
  if (seen.kind === 'standing') await settleAuthors(context, project, seen);
  const { main, plan, rules } = await ruled(context.records, seen);
  const candidates = await candidatesFor(context, project, seen, { main, plan, rules });
  try {
    await takeCandidates(context, project, seen, due, { main, candidates });
  } catch (error) {
    // What can't be deployed as it is stays where people look, and the other environments go on.
    if (!(error instanceof CodedError) || registry[error.issue.code].retry) throw error;
    await context.records.transition('environment.waits', async (db) => {
      const environment = await lockEnvironment(db, seen.id);
      await settleDue(db, 'environments', due, null);
      await setWaits(db, environment.id, error.issue);
    });
  }
  // What waits for the health of this one: after the transaction, since all of them are locked in one order.
  if (seen.kind === 'standing') await dueAfter(context.records, project.id, seen.name);
}

async function takeCandidates(
  context: Context,
  project: ProjectRow,
  seen: EnvironmentRow,
  due: Due,
  { main, candidates }: Pick<Ruled, 'main'> & { candidates: number[] },
): Promise<void> {
  await context.records.transition('environment.taken', async (db) => {
    const environment = await lockEnvironment(db, seen.id);
    // What was committed since the candidates were read has woken it again.
    await settleDue(db, 'environments', due, null);
    if (takesReleases(environment))
      await syncAddresses(db, project, environment, main?.model.environments[environment.plan_name]?.addresses ?? []);
    const again = await takeNewest(context, db, project, environment, candidates);
    await dueBy(db, 'environments', environment.id, again);
    await stepLife({ context, db, environment: await environmentById(db, environment.id) });
  });
}

const takesReleases = ({ state }: EnvironmentRow): boolean => state !== 'closing' && state !== 'closed';

/** Gives in how many milliseconds it is to look again though nothing has happened; null: only when something has. */
async function takeNewest(
  context: Context,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  candidates: number[],
): Promise<number | null> {
  const past = await briefDeploymentsOf(db, environment.id, 200);
  const live = past.find((one) => one.id === environment.live_id)?.release ?? null;
  const take = takes({
    held: environment.held_by !== null,
    open: takesReleases(environment),
    moving: (await movingDeployments(db, environment.id)).length > 0,
    liveRelease: live,
    candidates,
    // What was here before it was closed is no reason not to take it again.
    history: past.filter((one) => one.created_at >= environment.opened_at && !refusedByRules(one)).map(asPast),
  });
  const release = take === null ? null : await findRelease(db, project.id, take);
  if (!release) {
    if (environment.issue) await setWaits(db, environment.id, null);
    return null;
  }
  const settles = await settlesFor(
    context,
    db,
    environment,
    past.find((one) => one.id === environment.live_id),
  );
  if (settles !== null) {
    const why = issue('release_settles', {
      live: `r${live}`,
      release: `r${release.number}`,
      until: untilText(settles),
    });
    await setWaits(db, environment.id, why);
    return soonest(settles - context.now());
  }
  const judgement = environment.kind === 'review' ? null : await judged(context, db, project, environment, release);
  const unmet = (judgement?.answers ?? []).filter(({ state, rule }) => state !== 'met' && rule !== 'variables');
  if (unmet.length) {
    const why = unmet.map(({ says }) => says).join('; ');
    await setWaits(db, environment.id, issue('promotion_waits', { release: `r${release.number}`, why }));
    // Also where somebody is needed besides: what is said must be true when they look.
    const times = unmet.flatMap(({ until }) => (until === null ? [] : [until]));
    return times.length ? soonest(Math.min(...times) - context.now()) : null;
  }
  // What is missing is said where people look; the environment looks again when somebody has set it.
  const { unset, secrets } = await variablesFor(context, db, { project, environment, release });
  const shown = shownSecrets(release.plan, secrets);
  const missing = unset.length
    ? issue('variable_unset', { names: unset.join(', '), environment: `${project.name}/${environment.name}` })
    : shown.length
      ? issue('settings_secret', { name: shown.join(', ') })
      : null;
  if (missing || environment.issue) await setWaits(db, environment.id, missing);
  if (missing) return null;
  const ask = { project, environment, release, kind: 'automatic' as const, actor: 'engine', rules: judgement?.answers };
  await beginAtOnce(context, db, await askDeployment(context, db, ask), ask);
  return null;
}

async function judged(
  context: Context,
  db: Db,
  project: ProjectRow,
  environment: EnvironmentRow,
  release: ReleaseRow,
): Promise<Judgement> {
  const { rules } = await ruled(db, environment);
  const asked = { project, environment, release, rules, moving: false, override: null };
  return judgePromotion(await promotionFacts(context, db, asked));
}

/** Milliseconds: a time that comes late is looked at again at once, and one far away at least once a day: clocks may be set. */
const soonest = (ms: number): number => Math.min(Math.max(ms, 50), 86_400_000);

/** The rules held it up while it was on its way: that says nothing of the release. */
const refusedByRules = ({ failure }: { failure: Issue | null }): boolean => failure?.code === 'rules_not_met';

/**
 * Until when what is live is left alone, because another environment takes it only after some time in good health here; null: it need
 * not be. What is in poor health is not waited for.
 */
async function settlesFor(
  context: Context,
  db: Db,
  environment: EnvironmentRow,
  live: { release_id: string } | undefined,
): Promise<number | null> {
  const since = environment.healthy_since?.getTime();
  if (environment.kind !== 'standing' || !live || since === undefined) return null;
  const waiting = (await waitForHealth(db, environment.project_id, environment.name)).filter(
    (one) => one.release_id !== live.release_id,
  );
  const until = since + Math.max(0, ...waiting.map(({ healthy }) => healthy));
  return until > context.now() ? until : null;
}

/** Releases that it may take by itself, the newest by commit order first. */
async function candidatesFor(
  context: Context,
  project: ProjectRow,
  environment: EnvironmentRow,
  { main, plan, rules }: Pick<Ruled, 'main' | 'plan' | 'rules'>,
): Promise<number[]> {
  const { records } = context;
  const source = releaseSource(plan, environment);
  if (!main || !source) return [];
  if (source.from === 'pull request') {
    const newest = await newestOfPullRequest(records, project.id, source.number, environment.outside);
    return newest ? [newest.number] : [];
  }
  if (source.from === 'environment') {
    const verified = await verifiedRelease(records, project, source.name, rules.verified);
    return verified ? [verified.number] : [];
  }
  const head = await branchHead(records, project.id, source.name);
  if (!head) return [];
  const live = environment.live_id ? await releasedBy(records, environment.live_id) : null;
  const newer = newerThan(await history(repositoryOf(context, project), head, 500), live?.commit ?? null);
  const releases = new Map(
    (await releasesOfCommits(records, project.id, newer, source.name)).map((row) => [row.commit, row.number]),
  );
  return newer.flatMap((commit) => releases.get(commit) ?? []);
}
