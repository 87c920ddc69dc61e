/** Releases and their ways: deployments and promotions as the API gives them. */
import { percent } from '../../core/cutover/percent.js';
import { stepsOf, wayText } from '../../core/cutover/steps.js';
import type { GuardPlan } from '../../core/cutover/verdict.js';
import { durationText } from '../../core/durations.js';
import { evidenceDigest } from '../../core/release/evidence.js';
import { environmentById } from '../../records/deployments/environments.js';
import { runById } from '../../records/runs/runs.js';
import { changedMigrations, migrationsOf } from '../../engine/deployments/migrations.js';
import { placeOf } from '../../engine/deployments/acts.js';
import { considerPromotion } from '../../engine/promotion/promotions.js';
import { repositoryOf } from '../../engine/context.js';
import { commitsBetween } from '../../git/repository.js';
import type { Db } from '../../records/database.js';
import { deploymentsOfRelease, type DeploymentRow, type PastRow } from '../../records/deployments/deployments.js';
import type { ProjectRow } from '../../records/projects/projects.js';
import { evidenceOf, type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import type { RevertLook } from '../../engine/deployments/revert-ahead.js';
import type { Deployment, RevertAhead, RevertCandidate } from '../../wire/environments/environments.js';
import type { Commit } from '../../wire/projects.js';
import type { Promotion, Release, ReleaseDetail } from '../../wire/releases.js';
import type { Service } from '../server.js';
import { commitView, factsView, iso, said } from './basics.js';
import { approvalsView, rulesView, ruleView } from './rules.js';

export async function releaseView(db: Db, project: Pick<ProjectRow, 'id' | 'name'>, row: ReleaseRow): Promise<Release> {
  const [commit, run] = await Promise.all([
    commitView(db, project.id, row.commit),
    row.run_id === null ? null : runById(db, row.run_id),
  ]);
  const parts = row.parts.map((part) => ({
    name: part.name,
    kind: row.plan.parts[part.name]?.kind ?? ('site' as const),
    digest: part.digest,
    size: part.layers.reduce((sum, layer) => sum + layer.size, 0),
  }));
  return {
    project: project.name,
    number: row.number,
    digest: row.digest,
    commit,
    branch: row.branch,
    pullRequest: row.pull_request,
    run: run?.number ?? null,
    imported: row.imported,
    parts,
    createdAt: row.created_at.toISOString(),
  };
}

/** Of a release, the newest. */
const mostDeployments = 50;

export async function releaseDetail(
  { context }: Service,
  db: Db,
  project: ProjectRow,
  row: ReleaseRow,
): Promise<ReleaseDetail> {
  const [view, evidence, migrations, deployments] = await Promise.all([
    releaseView(db, project, row),
    evidenceOf(db, row.id),
    migrationsOf(context, project, row),
    deploymentsOfRelease(db, row.id, mostDeployments),
  ]);
  return {
    ...view,
    kept: row.gone_at === null,
    deployments: deployments.map((one) =>
      deploymentOf(project, { name: one.environment }, one, row.number, view.commit),
    ),
    migrations: migrations.map((file) => file.path),
    evidence: evidence.map((one) => ({ ...one, evidence: evidenceDigest(one), at: one.at.toISOString() })),
  };
}

export async function deploymentView(
  db: Db,
  project: Pick<ProjectRow, 'id' | 'name'>,
  row: DeploymentRow,
): Promise<Deployment> {
  const release = await releaseById(db, row.release_id);
  const environment = await environmentById(db, row.environment_id);
  return deploymentOf(project, environment, row, release.number, await commitView(db, project.id, release.commit));
}

/** The same where its release, commit and environment are known. */
export function deploymentOf(
  project: Pick<ProjectRow, 'name'>,
  environment: { name: string },
  row: DeploymentRow,
  release: number,
  commit: Commit,
): Deployment {
  return {
    project: project.name,
    environment: environment.name,
    number: row.number,
    release,
    commit,
    kind: row.kind,
    actor: row.actor,
    state: row.state,
    failure: said(row.failure),
    definitionCommit: row.definition_commit,
    createdAt: row.created_at.toISOString(),
    liveAt: iso(row.live_at),
    endedAt: iso(row.ended_at),
    warmUntil: iso(row.warm_until),
    override: row.override,
    together: row.joint_number,
    undoes: row.undoes,
  };
}

const candidateView = (row: PastRow, commit: Commit, now: number): RevertCandidate => ({
  deployment: row.number,
  release: row.release,
  commit,
  kind: row.kind,
  actor: row.actor,
  liveAt: (row.live_at ?? row.created_at).toISOString(),
  leftAt: iso(row.replaced_at),
  warm: row.warm_until !== null && row.warm_until.getTime() > now,
});

export const revertView = (
  project: string,
  environment: string,
  look: RevertLook,
  way: readonly PastRow[],
  { commit, now }: { commit: (id: string) => Commit; now: number },
): RevertAhead => ({
  project,
  environment,
  leaves: look.live?.number ?? null,
  candidates: way.map((row) => candidateView(row, commit(row.commit), now)),
  release: look.release.number,
  live: look.live?.release ?? null,
  then: look.then.number,
  ends: look.ends.map((one) => one.number),
  keeps: look.keeps,
  warm: look.warm,
  variables: look.variables,
  secrets: look.secrets,
  migrations: look.migrations,
  oneWay: look.oneWay,
  unused: look.resources.unused,
  anew: look.resources.anew,
  writtenSince: look.keeps ? null : iso(look.live?.live_at ?? null),
});

/** Bounds in words, where there are any. */
function guardText(guard: GuardPlan | undefined): string {
  const bounds = [
    ...(guard?.errors != null ? [`${percent(guard.errors)} errors`] : []),
    ...(guard?.p95Ms != null ? [`a p95 of ${guard.p95Ms} ms`] : []),
  ];
  return bounds.length ? `, or above ${bounds.join(' or ')}` : '';
}

export async function promotionView(
  service: Service,
  db: Db,
  project: ProjectRow,
  name: string,
  number: number | null,
): Promise<Promotion> {
  const { release, environment, judgement, live, plan, rules } = await considerPromotion(
    service.context,
    db,
    project,
    name,
    number,
  );
  const repository = repositoryOf(service.context, project);
  const facts = async (from: string | null, to: string) =>
    (await commitsBetween(repository, from, to, 100)).map(factsView);
  const names = new Set([...(live?.parts ?? []), ...release.parts].map((part) => part.name));
  const digest = (row: ReleaseRow | null, part: string) => row?.parts.find((one) => one.name === part)?.digest ?? null;
  const warm = durationText(plan.warm ?? service.context.timing.warm);
  const place = placeOf(project, environment);
  const sentence = live
    ? plan.cutover
      ? `r${release.number}, the same bytes that ${rules.after} has verified, takes the traffic of ${place} in steps: ${wayText(plan.cutover)}. It goes back by itself when it fares worse than r${live.number}${guardText(plan.guard)}; r${live.number} stays warm for ${warm}, ready for a revert.`
      : `r${release.number}, the same bytes that ${rules.after} has verified, takes all traffic of ${place} in one step; r${live.number} stays warm for ${warm}, ready for a revert.`
    : `r${release.number}, the same bytes that ${rules.after} has verified, becomes the first release that is live in ${place}.`;
  return {
    environment: name,
    project: project.name,
    release: await releaseView(db, project, release),
    live: live ? await releaseView(db, project, live) : null,
    after: rules.after ?? null,
    allowed: judgement.allowed,
    refusal: said(judgement.refusal),
    rules: judgement.answers.map(ruleView),
    until: iso(judgement.until === null ? null : new Date(judgement.until)),
    overridable: judgement.overridable,
    approvals: await approvalsView(db, project, environment, release),
    environmentRules: await rulesView(service, db, project, environment),
    commits: await facts(live?.commit ?? null, release.commit),
    removed: live ? await facts(release.commit, live.commit) : [],
    parts: [...names].map((part) => ({ name: part, from: digest(live, part), to: digest(release, part) })),
    migrations: changedMigrations(
      live ? await migrationsOf(service.context, project, live) : [],
      await migrationsOf(service.context, project, release),
    ),
    steps: live && plan.cutover ? stepsOf(plan.cutover) : [],
    sentence,
  };
}
