/** A hosted project to push to. */
import { join } from 'node:path';
import { commit, git, startCheckout } from '../demo/scenario/write.js';
import type { AddedProject } from '../src/wire/projects.js';
import type { AddedToken } from '../src/wire/people.js';
import type { Bench } from './harness.js';

export interface BenchProject {
  name: string;
  checkout: string;
  /** Its address, with what lets somebody push. */
  remote: string;
  /** Commits and pushes to main; gives the commit's id. */
  push(files: Record<string, string>, branch?: string): Promise<string>;
}

let minute = 0;

export async function benchProject({ api, folder }: Bench, name: string): Promise<BenchProject> {
  const project = await api.post<AddedProject>('/api/projects', { name, source: 'hosted' });
  const { token } = await api.post<AddedToken>('/api/tokens', { name: `bench ${name}`, role: 'developer' });
  const checkout = join(folder, name);
  await startCheckout(checkout, project.endpoint);
  const remote = project.endpoint.replace('//', `//x:${token}@`);
  return {
    name,
    checkout,
    remote,
    async push(files, branch = 'main') {
      if (branch !== 'main') await git(checkout, 'checkout', '-q', '-B', branch);
      const id = await commit(checkout, { title: `change ${++minute}`, author: 'Mika', files }, minute);
      await git(checkout, 'push', '-q', remote, branch);
      if (branch !== 'main') await git(checkout, 'checkout', '-q', 'main');
      return id;
    },
  };
}
