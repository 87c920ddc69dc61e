/**
 * A database that stands ready under a name of its own, and that nobody may enter: to make one takes longer than all that is done to it
 * then. There is one of each house on a server; without one a database is made as ever.
 */
import { createHash } from 'node:crypto';
import { codeOf, name, type Server } from './server.js';

/** Milliseconds after which the next one is made: what the one before was for is at work just now. */
const laterMs = 1_000;

export interface Spare {
  /** Gives it this name and lets it be entered, with what more is `said` of it in the same transaction. False where none stands ready. */
  take(database: string, said: string): Promise<boolean>;
  /** One is to stand ready in a moment. */
  want(): void;
  close(): Promise<void>;
}

export function openSpare(server: Server, house: string): Spare {
  const spare = name(`s_${createHash('sha256').update(house).digest('hex').slice(0, 32)}`);
  let timer: NodeJS.Timeout | null = null;
  let making: Promise<void> = Promise.resolve();
  const make = async (): Promise<void> => {
    try {
      await server.run(`create database ${spare} allow_connections false`);
      await server.run(`revoke all on database ${spare} from public`);
    } catch {
      // There already, made by another service; or the server is away, and nothing waits for it.
    }
  };
  return {
    async take(database, said) {
      try {
        await server.run(
          `alter database ${spare} rename to ${name(database)}; alter database ${name(database)} allow_connections true; ${said}`,
        );
        return true;
      } catch (error) {
        // None there; that name is taken; it was taken by another one at this moment.
        if (['3D000', '42P04', '55006', '23505', 'XX000', '40001'].includes(codeOf(error))) return false;
        throw error;
      }
    },
    want() {
      timer ??= setTimeout(() => {
        timer = null;
        making = making.then(make);
      }, laterMs);
      timer.unref();
    },
    async close() {
      if (timer) clearTimeout(timer);
      await making;
    },
  };
}
