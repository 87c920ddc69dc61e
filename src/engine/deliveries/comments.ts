/**
 * Tells code hosts of the reviews of their pull requests: one comment, whole each time, under a key and with a number that rises; whoever
 * has a newer one leaves an older one out.
 */
import { commentText, type ReviewFacts } from '../../core/alerts/comment.js';
import { wording } from '../../core/errors/errors.js';
import { deploymentById, deploymentsOf } from '../../records/deployments/deployments.js';
import { type EnvironmentRow, findEnvironment } from '../../records/deployments/environments.js';
import { type ReleaseRow, releaseById } from '../../records/deployments/releases.js';
import type { EventRow } from '../../records/events.js';
import { mainDefinition, type ProjectRow } from '../../records/projects/projects.js';
import { resourcesOf } from '../../records/resources/resources.js';
import { findRun, runById } from '../../records/runs/runs.js';
import { reviewFacts } from '../../records/views/reviews.js';
import { type Context, urlOf } from '../context.js';
import { changedMigrations, migrationsOf } from '../deployments/migrations.js';
import type { ReviewAccess } from '../../core/states.js';
import { picturesOf } from '../../records/deployments/pictures.js';
import { accessIn } from '../environments/gate.js';
import { environmentOfBranch } from '../environments/leads.js';
import { imageUrl } from '../pictures/pass.js';

/** The type of the events. */
const type = 'dev.tsunagi.review.told';

/** Which pull request an event is of; null: none that has a review. */
export async function pullOf(context: Context, project: ProjectRow, event: EventRow): Promise<number | null> {
  if (event.type.startsWith('run.')) {
    const run = await findRun(context.records, project.id, Number(event.subject.replace('run ', '')));
    return run?.pull_request ?? null;
  }
  const place = event.type === 'deployment.state' ? String(event.data.environment ?? '') : event.subject;
  const environment = await findEnvironment(context.records, project.id, place.split('/').at(-1) ?? '');
  return environment?.pull_request ?? null;
}

/** The comment as an event of which the id is the same each time it is sent; null where there is no review. */
export async function commentEvent(
  context: Context,
  project: ProjectRow,
  pull: number,
  event: EventRow,
): Promise<{ id: string; body: object } | null> {
  const environment = await findEnvironment(context.records, project.id, `pr-${pull}`);
  if (!environment || environment.pull_request !== pull) return null;
  const facts = await factsOf(context, project, environment, pull);
  const id = `${project.id}-${event.number}-review`;
  return {
    id,
    body: {
      specversion: '1.0',
      id,
      source: `/projects/${project.name}`,
      type,
      subject: `pr-${pull}`,
      time: event.at.toISOString(),
      datacontenttype: 'application/json',
      data: {
        pullRequest: pull,
        key: `tsunagi ${project.name}`,
        revision: Number(event.number),
        url: facts.url,
        commit: facts.shown?.commit ?? null,
        text: commentText(facts),
      },
    },
  };
}

async function factsOf(
  context: Context,
  project: ProjectRow,
  environment: EnvironmentRow,
  pull: number,
): Promise<ReviewFacts> {
  const { records } = context;
  const place = `${project.name}/${environment.name}`;
  const main = await mainDefinition(records, project.id);
  const seen = (await reviewFacts(records, project.id, pull)).find((one) => one.number === pull);
  const run = seen?.run ? await runById(records, seen.run) : null;
  const [newest] = await deploymentsOf(records, environment.id, 1);
  const live = await liveIn(context, environment);
  const access = accessIn(main, environment);
  const closed = environment.state === 'closed' || environment.state === 'closing';
  return {
    place,
    page: `${context.url}/${project.name}/${environment.name}`,
    url: live && !closed ? urlOf(context.addresses, environment.host) : null,
    access: access === 'open' ? null : access,
    closed,
    allow: run !== null && !run.allowed && run.state === 'waiting',
    shown: live && !closed ? { commit: live.commit, release: live.number } : null,
    head: seen?.head ?? run?.commit ?? live?.commit ?? '',
    run: run && {
      number: run.number,
      url: `${context.url}/${project.name}/runs/${run.number}`,
      state: run.state,
    },
    tests: seen?.passed == null ? null : { passed: seen.passed, failed: seen.failed ?? 0, failing: seen.failing },
    failure: newest?.state === 'failed' && newest.failure ? wording(newest.failure).says : null,
    data: (await resourcesOf(records, environment.id)).flatMap(({ name, origin, data_of }) =>
      origin ? [{ name, copy: origin.copy, of: data_of }] : [],
    ),
    picture: live && !closed ? await pictureOf(context, environment, access) : null,
    differs: live ? await differsFrom(context, project, live, seen?.base ?? project.main_branch, main) : null,
  };
}

/** Of what is live; with an address for everybody only where everybody may look at the review. */
async function pictureOf(
  context: Context,
  { id, live_id }: EnvironmentRow,
  access: ReviewAccess,
): Promise<ReviewFacts['picture']> {
  const found = (await picturesOf(context.records, id)).find((one) => one.deployment_id === live_id && one.pages);
  if (!found) return null;
  const has = (['marked', 'after'] as const).find((file) =>
    found.files.some((one) => one.page === 0 && one.file === file),
  );
  const image = has && access === 'open' ? imageUrl(context, found.id, 0, has) : null;
  return { share: found.share, image };
}

async function liveIn({ records }: Context, { live_id }: EnvironmentRow): Promise<ReleaseRow | null> {
  const deployment = live_id === null ? null : await deploymentById(records, live_id);
  return deployment && releaseById(records, deployment.release_id);
}

/** What a release has otherwise than what is live in the environment of the branch that it leads to. */
async function differsFrom(
  context: Context,
  project: ProjectRow,
  release: ReleaseRow,
  base: string,
  main: Awaited<ReturnType<typeof mainDefinition>>,
): Promise<ReviewFacts['differs']> {
  const environment = await environmentOfBranch(context.records, project, main, base);
  const there = environment ? await liveIn(context, environment) : null;
  if (!environment || !there) return null;
  const digests = new Map(there.parts.map((part) => [part.name, part.digest]));
  const names = new Set([...release.parts, ...there.parts].map((part) => part.name));
  const own = new Map(release.parts.map((part) => [part.name, part.digest]));
  const [before, now] = [await migrationsOf(context, project, there), await migrationsOf(context, project, release)];
  return {
    environment: environment.name,
    parts: [...names].filter((name) => digests.get(name) !== own.get(name)).sort(),
    migrations: changedMigrations(before, now).length,
  };
}
