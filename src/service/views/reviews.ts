/** Reviews as a list shows them. */
import type { Db } from '../../records/database.js';
import { reviewFacts, type ReviewFacts } from '../../records/views/reviews.js';
import { runOverviews } from '../../records/views/overview.js';
import type { Environment } from '../../wire/environments/environments.js';
import type { Review, ReviewLink } from '../../wire/environments/reviews.js';
import type { LinkRow } from '../../records/callers/passes.js';
import { iso } from './basics.js';
import type { Service } from '../server.js';
import { environmentViews } from './board.js';
import { runView } from './runs.js';

/** Those of one project, or (`null`) of all: what is open, and what waits for somebody. */
export async function reviewViews(service: Service, db: Db, project: string | null): Promise<Review[]> {
  const facts = await reviewFacts(db, project);
  const projects = [...new Set(facts.map((one) => one.project_id))];
  const environments = new Map<string, Environment>();
  for (const id of projects)
    for (const one of await environmentViews(service, db, id)) environments.set(`${one.project}/${one.name}`, one);
  const runs = new Map(
    (
      await runOverviews(
        db,
        facts.flatMap(({ run }) => run ?? []),
      )
    ).map((row) => [row.id, runView(row)]),
  );
  return facts.map((one): Review => {
    const run = runs.get(one.run ?? '') ?? null;
    return {
      project: one.project,
      name: one.name,
      branch: one.branch,
      pullRequest: pullOf(one),
      environment: environments.get(`${one.project}/${one.name}`) ?? null,
      run,
      tests: one.passed === null ? null : { passed: one.passed, failed: one.failed ?? 0, failing: one.failing },
      data: one.data.map(({ of, ...rest }) => ({ ...rest, of: of === null ? null : new Date(of).toISOString() })),
      // Nothing of a stranger's commit runs before somebody has looked at it.
      allow: run && !run.allowed && run.state === 'waiting' ? run.commit.id : null,
    };
  });
}

const pullOf = ({ number, title, base, trusted, draft }: ReviewFacts): Review['pullRequest'] =>
  number === null
    ? null
    : { number, title: title ?? '', base: base ?? '', trusted: trusted === true, draft: draft === true };

export const linkView = (row: LinkRow): ReviewLink => ({
  id: row.id,
  by: row.actor,
  createdAt: row.created_at.toISOString(),
  until: row.expires_at.toISOString(),
  usedAt: iso(row.used_at),
});
