/** What an agent is told about the pictures that it takes. */
import {
  mostHeight,
  pagesOf,
  type PicturePlan,
  type PictureSide,
  pictureWidth,
  windowHeight,
} from '../../core/pictures/pages.js';
import { deploymentById } from '../../records/deployments/deployments.js';
import { environmentById, type EnvironmentRow } from '../../records/deployments/environments.js';
import { pictureOfAttempt } from '../../records/deployments/pictures.js';
import { releaseById } from '../../records/deployments/releases.js';
import { type Context, urlOf } from '../context.js';
import { picturePass } from './pass.js';

/** The plan of an attempt, and the environments that it looks at. */
export async function picturePlan(
  context: Pick<Context, 'records' | 'addresses' | 'keys'>,
  attempt: string,
): Promise<{ plan: PicturePlan; looksAt: EnvironmentRow[] }> {
  const { records } = context;
  const picture = await pictureOfAttempt(records, attempt);
  const deployment = picture && (await deploymentById(records, picture.deployment_id));
  if (!picture || !deployment) throw new Error(`no picture of attempt ${attempt}`);
  const environment = await environmentById(records, deployment.environment_id);
  const release = await releaseById(records, deployment.release_id);
  const other = picture.beside_id === null ? null : await deploymentById(records, picture.beside_id);
  const beside = other && (await environmentById(records, other.environment_id));
  const side = ({ id, host }: EnvironmentRow): PictureSide => ({
    url: urlOf(context.addresses, host),
    host,
    pass: picturePass(context, id, attempt),
  });
  return {
    plan: {
      pages: pagesOf(deployment.environment_plan, release.plan),
      width: pictureWidth,
      windowHeight,
      mostHeight,
      after: side(environment),
      before: beside && side(beside),
    },
    looksAt: beside ? [environment, beside] : [environment],
  };
}
