/** `run start --from ENV`: a branch from what is live, and the way of what is pushed to it. */
import type { Environment } from '../../wire/environments/environments.js';
import type { EnvironmentRules } from '../../wire/environments/rules.js';
import type { PageOf } from '../../wire/parts.js';
import type { FromLive } from '../../wire/runs.js';
import { environmentPlace, get, post } from '../api.js';
import { bold, faint, plain, say, short } from '../print.js';
import { rulesOf } from './environments/rules.js';
import { give, type Shared } from './shared.js';

export async function startFrom(where: string, options: Shared & { branch?: string }): Promise<void> {
  const { path, project } = await environmentPlace(where, options.project);
  const one = await post<FromLive>(`${path}/branch`, options.branch ? { branch: options.branch } : {});
  const base = `/api/projects/${encodeURIComponent(project)}/environments`;
  const { items } = await get<PageOf<Environment>>(base);
  const standing = items.filter(({ kind }) => kind === 'standing');
  // What comes after another one is told after it.
  const ordered = [...standing].sort((a, b) => depthOf(a, standing) - depthOf(b, standing));
  const rules = await Promise.all(
    ordered.map(({ name }) => get<EnvironmentRules>(`${base}/${encodeURIComponent(name)}/rules`)),
  );
  give(options, { ...one, way: rules }, () => {
    say(
      `${bold(plain(one.branch))} ${one.how === 'elsewhere' ? 'is to begin' : one.how === 'made' ? 'begins' : 'is there already, and comes from'} ${one.how === 'there' ? '' : 'at '}${short(one.commit.id)} ${plain(one.commit.title)}: r${one.release}, which is live in ${plain(one.environment)}.`,
      '',
      ...(one.how === 'elsewhere'
        ? [`  git fetch && git switch -c ${one.branch} ${short(one.commit.id)} && git push -u origin ${one.branch}`]
        : [`  git fetch && git switch ${one.branch}`]),
      '',
      'Each push to it runs and becomes a release. Its way:',
    );
    for (const [at, environment] of ordered.entries()) {
      say(`  ${bold(plain(environment.name))}`);
      const deploy = `tsunagi deploy rN --to ${plain(project)}/${plain(environment.name)}`;
      if (environment.after === null)
        say(
          environment.branch === one.branch
            ? '    takes it by itself'
            : `    takes ${environment.branch === null ? '' : `${plain(environment.branch)} by itself, and `}what people deploy: ${deploy}`,
        );
      else for (const rule of rulesOf(rules[at] as EnvironmentRules)) say(`    ${rule}`);
    }
    say('', faint('What is live and not in main is said with the environment until main has it, too.'));
  });
}

/** How many come before it. */
function depthOf(one: Environment, all: readonly Environment[], seen: readonly string[] = []): number {
  const before = all.find(({ name }) => name === one.after);
  return before && !seen.includes(before.name) ? 1 + depthOf(before, all, [...seen, one.name]) : 0;
}
