/**
 * Definitions as they are stored: each carries the version of its model and is completed when it is read, so that what was recorded
 * long ago is used like what is recorded now.
 */
import type { Definition, EnvironmentPlan, Part, ReleasePlan, TaskPlan, TaskVariable, VariablePlan } from './model.js';

type Before<T, Gone extends object, New extends keyof T> = Omit<T, New> & Gone;

/** The model before `tools`, `for`, `append`, `untrusted`, `results` as text, and `coverage`. */
interface Stored1 {
  version: 1;
  versions: Record<string, string>;
  tasks: Record<
    string,
    Before<
      TaskPlan,
      {
        junit: string | null;
        branches: string[] | null;
        pullRequests: boolean;
        variables: Record<string, string | { from: string; then: string }>;
      },
      'results' | 'coverage' | 'for' | 'variables'
    >
  >;
  release: {
    needs: string[];
    parts: Record<string, Part2>;
    variables: Record<string, { kind: VariablePlan['kind']; then?: string; strangers?: string | null }>;
    prepare: { part: string; run: string } | null;
  } | null;
  environments: Record<string, Before<Environment3, { opens: string | null; promotion: string }, 'for' | 'promotion'>>;
}

/** The model before a site's own answers, `strip` and `sticky`. */
type Part2 = Omit<Part3, keyof typeof partDefaults>;
interface Stored2 extends Omit<Definition, 'version' | 'release' | 'environments'> {
  version: 2;
  environments: Record<string, Environment3>;
  release: (Before3<ReleasePlan> & { parts: Record<string, Part2> }) | null;
}

/** The model before resources, migrations, and what may be prepared again. */
type Before3<T extends ReleasePlan> = Omit<T, 'parts' | 'resources' | 'migrations' | 'prepare'> & {
  prepare: { part: string; run: string } | null;
};
interface Stored3 extends Omit<Definition, 'version' | 'release' | 'environments'> {
  version: 3;
  environments: Record<string, Environment3>;
  release: (Before3<ReleasePlan> & { parts: Record<string, Part3> }) | null;
}

/** The model before memory and processor of parts. */
type Part3 = Omit<Part4, 'memory' | 'cpu' | 'auto'>;
type Environment3 = Omit<Environment4, 'parts'>;

/** The model before volumes, and before old programs that are stopped. */
type Part5 = Omit<Part, 'volumes' | 'maintenance' | 'http2'>;
type Release5 = Omit<ReleasePlan, 'parts' | 'prepare'> & {
  prepare: { part: string; run: string; again: boolean } | null;
};
interface Stored5 extends Omit<Definition, 'version' | 'release'> {
  version: 5;
  release: (Release5 & { parts: Record<string, Part5> }) | null;
}

/** The model before jobs, and addresses of an environment's own. */
type Part4 = Omit<Part5, 'schedule' | 'timeoutMs'>;
type Environment4 = Omit<EnvironmentPlan, 'addresses'>;
interface Stored4 extends Omit<Definition, 'version' | 'environments' | 'release'> {
  version: 4;
  release: (Release5 & { parts: Record<string, Part4> }) | null;
  environments: Record<string, Environment4>;
}
const partDefaults = { missing: null, headers: [], redirects: [], settings: null, strip: false, sticky: false };

/** Throws for a version that this service does not know: a newer service has written it. */
export function storedDefinition(stored: Definition | Stored5 | Stored4 | Stored3 | Stored2 | Stored1): Definition {
  if (stored.version === 6) return stored;
  if (stored.version === 5)
    return {
      ...stored,
      version: 6,
      release: stored.release && {
        ...stored.release,
        parts: each(stored.release.parts, (one): Part => ({ volumes: [], maintenance: null, http2: false, ...one })),
        prepare: stored.release.prepare && { stops: false, ...stored.release.prepare },
      },
    };
  if (stored.version === 4)
    return storedDefinition({
      ...stored,
      version: 5,
      release: stored.release && {
        ...stored.release,
        parts: each(stored.release.parts, (one): Part5 => ({ schedule: null, timeoutMs: null, ...one })),
      },
      environments: each(stored.environments, (one): EnvironmentPlan => ({ addresses: [], ...one })),
    });
  if (stored.version === 3) {
    const { release } = stored;
    const prepare = release?.prepare ? { ...release.prepare, again: false } : null;
    const parts = each(release?.parts ?? {}, (part): Part4 => ({ memory: null, cpu: null, auto: null, ...part }));
    return storedDefinition({
      ...stored,
      version: 4,
      environments: each(stored.environments, (one): Environment4 => ({ parts: {}, ...one })),
      release: release && { ...release, parts, prepare, resources: {}, migrations: null },
    });
  }
  if (stored.version === 2) {
    const parts = stored.release && each(stored.release.parts, (part): Part3 => ({ ...partDefaults, ...part }));
    return storedDefinition({
      ...stored,
      version: 3,
      release: stored.release && { ...stored.release, parts: parts ?? {} },
    });
  }
  if (stored.version !== 1)
    throw new Error(`a definition of version ${String((stored as { version: unknown }).version)} was stored`);
  const { versions, tasks, release, environments } = stored;
  return storedDefinition({
    version: 2,
    tools: versions,
    tasks: each(tasks, ({ junit, branches, pullRequests, variables, ...task }) => ({
      ...task,
      results: junit,
      coverage: null,
      for:
        branches === null && pullRequests
          ? null
          : [...(branches ?? ['**']), ...(pullRequests ? ['pull requests'] : [])],
      variables: each(
        variables,
        (one): TaskVariable => (typeof one === 'string' ? one : { from: one.from, append: one.then }),
      ),
    })),
    release: release && {
      ...release,
      variables: each(release.variables, ({ then, strangers, ...one }) => ({
        ...one,
        ...(then === undefined ? {} : { append: then }),
        ...(strangers === undefined ? {} : { untrusted: strangers }),
      })) as Record<string, VariablePlan>,
    },
    environments: each(environments, ({ opens, promotion, ...one }) => ({
      ...one,
      for: opens === null ? null : 'pull requests',
      promotion: promotion === 'automatic' ? 'automatic' : 'manual',
    })),
  });
}

const each = <A, B>(of: Record<string, A>, change: (one: A) => B): Record<string, B> =>
  Object.fromEntries(Object.entries(of).map(([name, one]) => [name, change(one)]));
