/** How a release did beside the one before it, while the traffic moved: evidence about its bytes. */
import { quantile } from '../../core/figures/histogram.js';
import { cutoverOf } from '../../records/deployments/cutovers.js';
import { addEvidence } from '../../records/deployments/releases.js';
import { tellEvidence } from './health.js';
import type { Scene } from './scene.js';

export async function recordComparison({
  db,
  deployment,
  environment,
  before,
  release,
  project,
}: Scene): Promise<void> {
  const row = deployment.environment_plan.cutover && before ? await cutoverOf(db, deployment.id) : null;
  // What went with others had no shares, and no copies.
  if (!row || !before || deployment.joint_id !== null) return;
  const { mirrored } = row;
  const tests = Object.entries(row.tests).map(([key, { old, now }]) => {
    const [figure = '', part = '', path = ''] = key.split(' ');
    return { figure, part, path, old, now };
  });
  const mirror = mirrored && {
    ...Object.fromEntries(Object.entries(mirrored).filter(([name]) => !name.endsWith('Times'))),
    oldP95: quantile(mirrored.oldTimes, 0.95),
    nowP95: quantile(mirrored.nowTimes, 0.95),
  };
  const evidence = await addEvidence(db, release, {
    kind: 'comparison',
    name: environment.name,
    source: `d${deployment.number}`,
    detail: { beside: `r${before.release.number}`, digest: before.release.digest, mirror, tests },
  });
  if (evidence) await tellEvidence(db, project, environment.name, release, evidence);
}
