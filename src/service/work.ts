/** What an agent needs to know to do an attempt or run an instance. */
import { edgeAddress } from '../core/addresses.js';
import { listEdges } from '../records/callers/edges.js';
import type { Part, Task } from '../core/definition/model.js';
import { picturesInside } from '../core/pictures/pages.js';
import { filesOf } from '../core/plan/plan.js';
import { boundedOutside, sizeOf } from '../core/scale/sizes.js';
import { resourceVariables } from '../core/variables/resolve.js';
import { taskValues } from '../core/variables/task.js';
import type { TreeFile } from '../core/fingerprint/inputs.js';
import { layerKey } from '../git/layer.js';
import type { AttemptRow } from '../records/runs/attempts.js';
import { deploymentById, type DeploymentRow } from '../records/deployments/deployments.js';
import { environmentById, type EnvironmentRow } from '../records/deployments/environments.js';
import type { InstanceRow } from '../records/deployments/instances.js';
import { projectById, type ProjectRow } from '../records/projects/projects.js';
import { releaseById, type ReleaseRow } from '../records/deployments/releases.js';
import { runById, taskById, tasksOf } from '../records/runs/runs.js';
import type { TerminalRow } from '../records/deployments/terminals.js';
import type { AttemptWork, InstanceWork, Reach, TerminalWork } from '../wire/rooms/work.js';
import { type Context, repositoryOf, treeOf, urlOf } from '../engine/context.js';
import { sceneOf } from '../engine/runs/scene.js';
import type { KnownAttempt } from '../engine/context.js';
import { accessOf, programPass } from '../engine/environments/gate.js';
import { picturePlan } from '../engine/pictures/plan.js';
import { openSecrets } from '../engine/environments/variables.js';
import { copiedFiles, type OpenedResources, openResources, openSnapshot } from '../engine/resources/open.js';

/** The agent's own program (agent/pictures), and what it may take. */
const pictureCommand = `node ${picturesInside}/lib/take.cjs`;
const pictureMs = 3 * 60_000;
const pictureMemory = 2 * 1024 ** 3;

export async function attemptWork(context: Context, attempt: AttemptRow): Promise<AttemptWork> {
  const shared = { id: attempt.id, fence: attempt.fence ?? '0', kind: attempt.kind, logBytes: attempt.log_bytes };
  if (attempt.kind === 'task') {
    const known = context.steps.known(attempt.id);
    const { task, run, outputs } = known ?? (await readAttempt(context, attempt));
    const project = known
      ? (await sceneOf(context, run)).project
      : await projectById(context.records, attempt.project_id);
    const model: Task = task.model;
    const { values, fromResources, secrets } = taskValues(model, {
      run,
      project,
      ...(task.pinned.set ? { set: task.pinned.set } : {}),
    });
    const places = Object.fromEntries(
      Object.entries(secrets).map(([variable, { name, version, append }]) => [
        variable,
        { scope: '', name, version, append },
      ]),
    );
    const opened = Object.keys(places).length ? await openSecrets(context, project.id, places) : {};
    // In the order in which the fingerprint has them: where two make the same path, the same one lies on top each time.
    const layers = [...model.needs].sort((a, b) => (a < b ? -1 : 1)).flatMap((need) => outputs.get(need) ?? []);
    return {
      ...shared,
      label: `run ${run.number} ${task.name}`,
      commands: model.run,
      variables: { CI: 'true', ...shardVariables(model), ...values, ...opened },
      secret: Object.keys(opened),
      fromResources,
      resources: model.resources,
      untrusted: run.line !== 'own',
      cache: { key: `${attempt.project_id} ${run.line}`, paths: model.cache },
      files: task.files.count ? task.files : null,
      layers,
      makes: model.makes,
      results: model.results,
      coverage: model.coverage,
      timeoutMs: model.timeout,
      network: model.network ? 'open' : 'none',
      reach: [],
    };
  }
  const scene = await deploymentScene(context, attempt.deployment_id as string);
  const { deployment, release, environment } = scene;
  const base = {
    ...shared,
    label: `d${deployment.number} ${attempt.kind}`,
    makes: [],
    results: null,
    coverage: null,
    timeoutMs: 30 * 60_000,
    network: 'none' as const,
    fromResources: {},
    resources: {},
    untrusted: environment.outside,
    cache: { key: '', paths: [] },
  };
  if (attempt.kind === 'scrub') {
    const { opened, command, resource, files } = await openSnapshot(context, attempt.id);
    const { variables, secret } = await variablesOf(context, scene, opened);
    return {
      ...base,
      variables: { ...variables, TSUNAGI_RESOURCE: resource },
      secret,
      commands: [command],
      files: null,
      layers: [...layersOf(release, attempt.part ?? ''), ...(files ? [files] : [])],
      makes: files ? [`${copiedFiles}/`] : [],
      reach: opened.reach,
      unquoted: true,
    };
  }
  if (attempt.kind === 'picture') {
    const { plan, looksAt } = await picturePlan(context, attempt.id);
    const reach = (await Promise.all(looksAt.map((one) => edgeReach(context, one)))).flat();
    return {
      ...base,
      // What is drawn is somebody else's: nothing of the environment's own stands beside it.
      variables: { TSUNAGI_PICTURES: JSON.stringify(plan) },
      secret: ['TSUNAGI_PICTURES'],
      commands: [pictureCommand],
      files: null,
      layers: [],
      makes: ['pictures/'],
      timeoutMs: pictureMs,
      memory: pictureMemory,
      reach,
    };
  }
  const opened = await openResources(
    context,
    scene,
    attempt.kind === 'prepare'
      ? { usedBy: 'prepare', turn: attempt.number }
      : { usedBy: 'parts', turn: deployment.turn },
  );
  const set = { ...base, ...(await variablesOf(context, scene, opened, { lets: attempt.kind === 'verify' })) };
  if (attempt.kind === 'prepare' || attempt.kind === 'seed') {
    const plan = attempt.kind === 'seed' ? deployment.environment_plan.seed : release.plan.prepare;
    const { part, run } = plan ?? { part: '', run: 'true' };
    return {
      ...set,
      timeoutMs: (attempt.kind === 'prepare' ? release.plan.prepare?.timeoutMs : undefined) ?? base.timeoutMs,
      commands: [run],
      files: null,
      layers: layersOf(release, part),
      reach: opened.reach,
      volumes: volumesOf(release, part, opened),
    };
  }
  if (attempt.kind === 'job') {
    const part = release.plan.parts[attempt.part ?? ''];
    return {
      ...set,
      label: `${attempt.part} of d${deployment.number}`,
      commands: [part?.start ?? 'true'],
      timeoutMs: part?.timeoutMs ?? base.timeoutMs,
      files: null,
      layers: layersOf(release, attempt.part ?? ''),
      // As the programs of its release have it.
      network: environment.outside ? 'none' : 'open',
      reach: opened.reach,
      volumes: volumesOf(release, attempt.part ?? '', opened),
      ...jobSize(part, environment.outside),
    };
  }
  const verify = deployment.environment_plan.verify ?? { run: 'true', reads: [] };
  const files = await commitFiles(context, scene.project, release.commit, verify.reads);
  return {
    ...set,
    commands: [verify.run],
    files: files.length ? { key: layerKey(files), count: files.length } : null,
    layers: [],
    reach: [...(await edgeReach(context, environment)), ...opened.reach],
  };
}

/** The environment's own address: the edge leads plain requests to TLS where everyone trusts the certificate. */
async function edgeReach(context: Context, { host }: Pick<EnvironmentRow, 'host'>): Promise<Reach[]> {
  const { port, scheme, tlsPort } = context.addresses;
  const edges = (await listEdges(context.records)).filter((one) => one.alive);
  edges.sort((a, b) => b.seen_at.getTime() - a.seen_at.getTime());
  const address = edgeAddress(
    context.names.edges,
    edges.map((one) => one.address),
  );
  const ports = new Set([port ?? (scheme === 'https' ? 443 : 80), tlsPort ?? 443]);
  return [...ports].map((one) => ({ port: one, host, address }));
}

/** A person's terminal, with what a program of its release gets. */
export async function terminalWork(context: Context, row: TerminalRow): Promise<TerminalWork> {
  const scene = await deploymentScene(context, row.deployment_id);
  const { deployment, release, environment, project } = scene;
  const own = row.instance_id === null;
  const shared = {
    id: row.id,
    fence: row.fence,
    door: row.door,
    label: `${project.name}/${environment.name} terminal of ${row.who}`,
    command: row.command.length ? row.command : ['bash'],
    tty: row.tty,
    columns: row.columns,
    rows: row.rows,
    beside: row.instance_id,
    idleMs: context.timing.idle,
    longestMs: context.timing.longest,
  };
  const terminal = {
    TERM: row.tty ? (row.term ?? 'xterm-256color') : 'dumb',
    TSUNAGI_PROMPT: `${project.name}/${environment.name} \\w \\$ `,
  };
  // An instance's program has all of it already.
  if (!own) return { ...shared, layers: [], variables: terminal, reach: [] };
  const opened = await openResources(context, scene, { usedBy: 'parts', turn: deployment.turn });
  const { variables } = await variablesOf(context, scene, opened, { lets: true });
  return {
    ...shared,
    layers: layersOf(release, row.part),
    variables: { ...terminal, ...variables },
    ...(environment.outside ? { network: 'none' as const } : {}),
    reach: [...(await edgeReach(context, environment)), ...opened.reach],
    volumes: volumesOf(release, row.part, opened),
  };
}

async function readAttempt(context: Context, attempt: AttemptRow): Promise<KnownAttempt> {
  const task = await taskById(context.records, attempt.task_id as string);
  const run = task && (await runById(context.records, task.run_id));
  if (!task || !run) throw new Error(`no task ${attempt.task_id}`);
  const tasks = await tasksOf(context.records, task.run_id);
  return { run, task, outputs: new Map(tasks.flatMap((one) => (one.output === null ? [] : [[one.name, one.output]]))) };
}

/** What a job may take; of a stranger's review no more than its other programs. */
function jobSize(part: Part | undefined, outside: boolean): { memory?: number; cpu?: number } {
  const asked = { memory: part?.memory ?? null, cpu: part?.cpu ?? null };
  const { memory, cpu } = outside ? boundedOutside(asked) : asked;
  return { ...(memory ? { memory } : {}), ...(cpu ? { cpu } : {}) };
}

const shardVariables = ({ shard }: Task): Record<string, string> =>
  shard ? { TSUNAGI_SHARD: String(shard.index), TSUNAGI_SHARDS: String(shard.count) } : {};

export interface AttemptFiles {
  repository: string;
  files: TreeFile[];
}

/** The files that an attempt sees. */
export async function attemptFiles(context: Context, attempt: AttemptRow): Promise<AttemptFiles> {
  const of = async (project: ProjectRow, commit: string, reads: string[] | null) => ({
    repository: repositoryOf(context, project),
    files: await commitFiles(context, project, commit, reads),
  });
  if (attempt.kind === 'task') {
    const { run, task } = await readAttempt(context, attempt);
    return of(await projectById(context.records, attempt.project_id), run.commit, task.model.reads);
  }
  const { deployment, project, release } = await deploymentScene(context, attempt.deployment_id as string);
  return of(project, release.commit, deployment.environment_plan.verify?.reads ?? []);
}

/** The same of an attempt of a task whose run is known; no record is read. */
export async function knownFiles(context: Context, { run, task }: KnownAttempt): Promise<AttemptFiles> {
  const { project, files } = await sceneOf(context, run);
  return { repository: repositoryOf(context, project), files: filesOf(files, task.model.reads) };
}

export async function instanceWork(context: Context, instance: InstanceRow): Promise<InstanceWork> {
  const scene = await deploymentScene(context, instance.deployment_id);
  const part = scene.release.plan.parts[instance.part];
  const size =
    part && sizeOf(part, scene.deployment.environment_plan, scene.environment.sizes, scene.environment.outside);
  const opened = await openResources(context, scene, { usedBy: 'parts', turn: instance.turn });
  return {
    id: instance.id,
    fence: instance.fence ?? '0',
    label: `${scene.project.name}/${scene.environment.name} ${instance.part} ${instance.position}`,
    part: instance.part,
    kind: instance.kind,
    start: part?.start ?? 'false',
    ready: part?.ready ?? null,
    ...(part?.http2 ? { http2: true } : {}),
    readyMs: part?.startWithinMs ?? context.timing.ready,
    drainMs: context.timing.drain,
    layers: layersOf(scene.release, instance.part),
    ...(await variablesOf(context, scene, opened)),
    reach: opened.reach,
    volumes: volumesOf(scene.release, instance.part, opened),
    ...(size?.memory == null ? {} : { memory: size.memory }),
    ...(size?.cpu == null ? {} : { cpu: size.cpu }),
    ...(scene.environment.kind === 'review' ? { behind: true as const } : {}),
    ...(scene.environment.outside ? { network: 'none' as const } : {}),
    logBytes: instance.log_bytes,
  };
}

interface Scene {
  deployment: DeploymentRow;
  release: ReleaseRow;
  environment: EnvironmentRow;
  project: ProjectRow;
}

async function deploymentScene(context: Context, id: string): Promise<Scene> {
  const deployment = await deploymentById(context.records, id);
  if (!deployment) throw new Error(`no deployment ${id}`);
  const [release, environment, project] = await Promise.all([
    releaseById(context.records, deployment.release_id),
    environmentById(context.records, deployment.environment_id),
    projectById(context.records, deployment.project_id),
  ]);
  return { deployment, release, environment, project };
}

const layersOf = (release: ReleaseRow, part: string): string[] =>
  release.parts.find((one) => one.name === part)?.layers.map((layer) => layer.digest) ?? [];

/** The volumes that a part sees. */
const volumesOf = ({ plan }: ReleaseRow, part: string, { volumes }: OpenedResources): { id: string; name: string }[] =>
  (plan.parts[part]?.volumes ?? []).flatMap((name) => {
    const id = volumes[name];
    return id === undefined ? [] : [{ id, name }];
  });

async function variablesOf(
  context: Context,
  { deployment, release, environment, project }: Scene,
  { fields }: OpenedResources,
  /** Whether it may look at the environment as visitors do: what comes to answer them need not. */
  { lets = false } = {},
): Promise<{ variables: Record<string, string>; secret: string[] }> {
  const opened = await openSecrets(context, project.id, deployment.secrets);
  const wired = resourceVariables(release.plan.variables, fields);
  const variables: Record<string, string> = {
    ...deployment.variables,
    ...opened,
    ...wired.values,
    TSUNAGI_PROJECT: project.name,
    TSUNAGI_ENVIRONMENT: environment.name,
    TSUNAGI_ENVIRONMENT_URL: urlOf(context.addresses, environment.host),
    TSUNAGI_RELEASE: `r${release.number}`,
    TSUNAGI_COMMIT: release.commit,
  };
  const guarded = lets && (await accessOf(context.records, environment)) !== 'open';
  const pass = guarded ? programPass(context, environment.id) : null;
  if (pass) variables.TSUNAGI_PASS = pass;
  // A value that the definition calls a secret is masked, too, where somebody has set it as plain text.
  const plans = release.plan.variables;
  const named = Object.keys(deployment.variables).filter((name) => plans[name]?.kind === 'set' && plans[name].secret);
  return { variables, secret: [...Object.keys(opened), ...wired.secret, ...named, ...(pass ? ['TSUNAGI_PASS'] : [])] };
}

async function commitFiles(
  context: Context,
  project: ProjectRow,
  commit: string,
  reads: string[] | null,
): Promise<TreeFile[]> {
  return filesOf(await treeOf(context, project, commit), reads);
}
