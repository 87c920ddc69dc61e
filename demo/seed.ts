/** Fills a fresh house with the scenario, through the public interfaces alone: git, the API, the code host's events. */
import { join } from 'node:path';
import type { AddedProject } from '../src/wire/projects.js';
import type { AddedToken } from '../src/wire/people.js';
import type { Deployment, Environment } from '../src/wire/environments/environments.js';
import type { PageOf } from '../src/wire/parts.js';
import type { Run } from '../src/wire/runs.js';
import type { Address } from '../src/wire/environments/addresses.js';
import type { CodeHost } from './codehost/codehost.js';
import type { NameServer } from './nameserver/nameserver.js';
import { berthPlanner, tideTables } from './scenario/others.js';
import { newcomer, newcomerName } from './scenario/newcomer.js';
import { failing, history, later, proposal } from './scenario/sailings.js';
import { type Change, commit, git, startCheckout } from './scenario/write.js';

export interface DemoApi {
  url: string;
  get<T>(path: string): Promise<T>;
  post<T>(path: string, body?: unknown): Promise<T>;
}

export function demoApi(url: string, token: string): DemoApi {
  const call = async <T>(method: string, path: string, body?: unknown): Promise<T> => {
    const answer = await fetch(url + path, {
      method,
      headers: {
        authorization: `Bearer ${token}`,
        ...(method === 'POST' ? { 'content-type': 'application/json', 'idempotency-key': crypto.randomUUID() } : {}),
      },
      ...(method === 'POST' ? { body: JSON.stringify(body ?? {}) } : {}),
    });
    const text = await answer.text();
    if (!answer.ok) throw new Error(`${method} ${path}: ${answer.status} ${text}`);
    return JSON.parse(text) as T;
  };
  return { url, get: (path) => call('GET', path), post: (path, body) => call('POST', path, body) };
}

export async function until<T>(
  look: () => Promise<T | null | undefined | false>,
  what: string,
  ms = 60_000,
): Promise<T> {
  const deadline = Date.now() + ms;
  for (;;) {
    const found = await look();
    if (found) return found;
    if (Date.now() > deadline) throw new Error(`waited ${ms / 1000} s in vain: ${what}`);
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
}

const environment = (api: DemoApi, place: string) =>
  api.get<Environment>(`/api/projects/${place.replace('/', '/environments/')}`).catch(() => null);

/** Waits until an environment is live with a commit (and verified, where it verifies). */
export const untilLive = (api: DemoApi, place: string, id: string) =>
  until(
    async () => {
      const one = await environment(api, place);
      return one?.live?.commit.id === id && one.moving === null ? one : null;
    },
    `${place} live with ${id.slice(0, 7)}`,
  );

export const untilRun = (api: DemoApi, project: string, id: string, branch?: string) =>
  until(
    async () => {
      const { items } = await api.get<PageOf<Run>>(`/api/runs?project=${project}&limit=50`);
      const run = items.find((one) => one.commit.id === id && (branch === undefined || one.branch === branch));
      return run?.endedAt ? run : null;
    },
    `the run of ${id.slice(0, 7)} in ${project}`,
  );

/** Puts down the records that prove the names of Kohama Ferries; one of them is still missing. */
export async function prove(api: DemoApi, names: NameServer): Promise<void> {
  const path = '/api/projects/sailings/environments/production/addresses';
  const { items } = await api.get<PageOf<Address>>(path);
  for (const { proof } of items) if (proof) names.set(proof.record, { TXT: [proof.value] });
  names.set('_tsunagi.tickets.kohama.example', { TXT: ['v=spf1 -all'] });
}

export async function seed(
  api: DemoApi,
  codehost: CodeHost,
  names: NameServer,
  folder: string,
  say: (text: string) => void,
): Promise<void> {
  say('Seeding: sailings, from its code host …');
  const remote = codehost.addRepository('sailings');
  const added = await api.post<AddedProject>('/api/projects', {
    name: 'sailings',
    source: 'notified',
    url: remote,
    allowPrivate: true,
  });
  codehost.setHook('sailings', { url: added.endpoint, secret: added.eventSecret as string });
  await api.post('/api/projects/sailings/change', { statuses: codehost.statusUrl('sailings') });
  const checkout = join(folder, 'sailings');
  await startCheckout(checkout, remote);
  let minute = 0;
  const commitAll = async (place: string, changes: Change[]): Promise<string> => {
    let last = '';
    for (const change of changes) last = await commit(place, change, (minute += 47));
    return last;
  };
  const first = await commitAll(checkout, history);
  await git(checkout, 'push', '-q', 'origin', 'main');
  await untilLive(api, 'sailings/staging', first);
  await api.post('/api/projects/sailings/environments/production/approvals', { release: 1 });
  const promoted = await api.post<Deployment>('/api/projects/sailings/environments/production/deployments', {
    kind: 'promote',
  });
  say(`  ${first.slice(0, 7)} is verified in staging; r${promoted.release} goes to production`);
  await untilLive(api, 'sailings/production', first);

  // Reviews begin with a copy of what is in staging; its `scrub` removes who is called.
  await api.post('/api/projects/sailings/environments/staging/copies', { permit: true });

  const addresses = '/api/projects/sailings/environments/production/addresses';
  for (const host of ['departures.kohama.example', 'tickets.kohama.example']) await api.post(addresses, { host });
  await prove(api, names);
  await api.post(`${addresses}/departures.kohama.example/check`);

  await api.post('/api/alerts', { name: 'on-call', mail: 'on-call@kohama.example' });

  say('Seeding: tide-tables and berth-planner, pushed straight to the service …');
  const token = await api.post<AddedToken>('/api/tokens', { name: 'seeding', role: 'developer', days: 1 });
  for (const [name, changes] of [
    ['tide-tables', tideTables],
    ['berth-planner', berthPlanner],
  ] as const) {
    const project = await api.post<AddedProject>('/api/projects', { name, source: 'hosted' });
    const place = join(folder, name);
    await startCheckout(place, project.endpoint);
    const push = () => git(place, 'push', '-q', project.endpoint.replace('//', `//seed:${token.token}@`), 'main');
    const [one, two] = changes as [Change, Change];
    const id = await commit(place, one, (minute += 31));
    await push();
    await untilLive(api, `${name}/staging`, id);
    await api.post(`/api/projects/${name}/environments/production/deployments`, { kind: 'promote' });
    await untilLive(api, `${name}/production`, id);
    await commit(place, two, (minute += 31));
    await push();
  }

  // Not added to the service: for trying how that is done.
  const newcomerPlace = join(folder, newcomerName);
  await startCheckout(newcomerPlace, codehost.addRepository(newcomerName));
  await commit(newcomerPlace, newcomer, (minute += 11));
  await git(newcomerPlace, 'push', '-q', 'origin', 'main');

  say('Seeding: newer commits, a branch whose tests fail, a pull request …');
  const second = await commitAll(checkout, later);
  await git(checkout, 'push', '-q', 'origin', 'main');
  await git(checkout, 'checkout', '-q', '-b', 'cancelled-sailings');
  const broken = await commitAll(checkout, [failing]);
  await git(checkout, 'push', '-q', 'origin', 'cancelled-sailings');
  await git(checkout, 'checkout', '-q', '-b', 'tide-banner', 'main');
  const proposed = await commitAll(checkout, [proposal]);
  await git(checkout, 'push', '-q', 'origin', 'tide-banner');
  await git(checkout, 'checkout', '-q', 'main');
  const pull = await codehost.openPull('sailings', { title: proposal.title, branch: 'tide-banner' });
  await untilLive(api, 'sailings/staging', second);
  await untilRun(api, 'sailings', broken);
  await untilLive(api, `sailings/pr-${pull.number}`, proposed);
}
