/** Whether the plan that another house states fits together: what a definition's reader would have refused. */
import type { ReleasePlan } from '../definition/model.js';
import { unsafePath } from '../paths.js';

/** Why not, in words; null where it does. @param parts names of those whose bytes are there */
export function planMisfit(plan: ReleasePlan, parts: readonly string[]): string | null {
  const declared = Object.keys(plan.parts);
  const lacking = declared.find((name) => !parts.includes(name)) ?? parts.find((name) => !declared.includes(name));
  if (lacking !== undefined) return `its part ${lacking} is not among both its plan and its images`;
  for (const [name, part] of Object.entries(plan.parts)) {
    if (part.name !== name) return `its part ${name} is called ${part.name}`;
    const named = [part.root, part.missing, part.fallback, part.maintenance].filter(
      (path) => path !== null && path !== '',
    );
    const bad = named.map((path) => unsafePath((path as string).replace(/^\//, ''))).find(Boolean);
    if (bad) return `a path of its part ${name} cannot be: ${bad}`;
    if (part.auto && part.auto.min > part.auto.max) return `its part ${name} has fewer instances at most than at least`;
    const volume = part.volumes.find((one) => plan.resources[one]?.kind !== 'volume');
    if (volume !== undefined) return `its part ${name} sees no volume ${volume}`;
  }
  const resource = Object.entries(plan.resources).find(([name, one]) => one.name !== name)?.[0];
  if (resource !== undefined) return `its resource ${resource} has another name`;
  const variable = Object.entries(plan.variables).find(
    ([name, one]) =>
      !/^[A-Za-z_][A-Za-z0-9_]{0,99}$/.test(name) || (one.kind === 'resource' && !plan.resources[one.resource]),
  )?.[0];
  if (variable !== undefined) return `its variable ${variable.slice(0, 100)} comes from nowhere`;
  if (plan.prepare && !plan.parts[plan.prepare.part]) return `prepare runs in no part of it`;
  return null;
}
