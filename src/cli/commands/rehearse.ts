/** `rehearse`: loaded from the house only when it is asked for. */
import type { Command } from 'commander';
import { type Shared, shared } from './shared.js';

export function rehearseCommand(program: Command): void {
  shared(
    program
      .command('rehearse [tasks...]')
      .description('run tasks of the working copy here, in the same sandbox, with no service; default: all of them'),
    'tsunagi rehearse unit --log',
  )
    .option('--log', 'show all that is printed, not only that of tasks that fail')
    .option('--write', 'where there is no tsunagi.yaml: write the one that is proposed, and go on with it')
    .option('--without-reuse', 'run every task, whatever has passed before')
    .action(async (tasks: string[], options: Shared & { log?: boolean; write?: boolean; withoutReuse?: boolean }) => {
      const room = new URL('./src/cli/serve/rehearse.js', import.meta.url).href;
      const { rehearseHere } = (await import(room)) as {
        rehearseHere(tasks: string[], options: object): Promise<number>;
      };
      process.exitCode = await rehearseHere(tasks, options);
    });
}
