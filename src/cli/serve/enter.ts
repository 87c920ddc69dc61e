/** Entry of a room's process: which one is the first argument. */
import { CodedError, wording } from '../../core/errors/errors.js';
import { runRoom } from './room.js';

runRoom(process.argv[2] ?? '').catch((error: unknown) => {
  const { says, next } =
    error instanceof CodedError ? wording(error.issue) : { says: String((error as Error).stack ?? error), next: '' };
  process.stderr.write(`${says}\n${next}\n`);
  process.exit(3);
});
