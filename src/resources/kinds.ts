/**
 * What a kind of resource can do. Everything carries the id of its row and may be asked for twice: who asked may have died before it
 * heard the answer.
 */
import type { Readable } from 'node:stream';
import type { ResourceKind as KindName } from '../core/states.js';

export interface Login {
  id: string;
  password: string;
  /** After this it opens nothing any more; null: until it is ended. */
  until: Date | null;
  /** Milliseconds for which a statement of it waits for a lock; null: as the server says. */
  lockMs: number | null;
  /** Milliseconds that a statement may take, unless the session sets another bound; null: as long as it likes. */
  statementMs: number | null;
}

/** What is seen of a resource from outside. */
export interface Looked {
  /** What it takes on disk. */
  bytes: number;
  /** Sessions that are open; null: nothing of the kind has any. */
  connections: number | null;
}

/** Where programs reach it: a name that leads there is added by whoever starts them. */
export interface Reached {
  address: string;
  port: number;
}

/** A table of a database. */
export interface TableFacts {
  schema: string;
  name: string;
  bytes: number;
  /** As the server last counted them; -1 where it never has. */
  rows: number;
}

/** Rows as text, each cut to a length that a page can bear; null is null. */
export interface TableRows {
  columns: string[];
  rows: (string | null)[][];
  /** Whether there are more behind them. */
  more: boolean;
}

/** Bytes that are stored. */
export interface Kept {
  digest: string;
  size: number;
}

export interface StoredBytes {
  digest: string;
  open(): Promise<Readable>;
}

/** What was counted in a copy that was restored beside its resource. */
export interface Counted {
  tables: number | null;
  rows: number | null;
  files: number | null;
}

export interface Kind<Spec> {
  kind: KindName;
  /** `meanwhile`: what needs no more than that its logins can be made; default: nothing. */
  make(id: string, spec: Spec, meanwhile?: () => Promise<void>): Promise<void>;
  look(id: string): Promise<Looked>;
  /**
   * Copies it as of one moment, or as near to that as it can, into what `store` keeps. `copy` names the copy. Ended by `abort`; what was
   * made for it is gone when this returns, or with the next copy of the name.
   */
  backUp(id: string, copy: string, store: (bytes: Readable) => Promise<Kept>, abort: AbortSignal): Promise<Kept>;
  /** Puts a copy in the place of what is there. `turn` names this wish: one that was fulfilled already is not fulfilled again. */
  restore(id: string, turn: string, spec: Spec, from: StoredBytes): Promise<void>;
  /** Restores a copy beside it, counts what is in it, and removes that again. */
  tryOut(id: string, copy: string, spec: Spec, from: StoredBytes): Promise<Counted>;
  /** Ends whatever uses it, and removes it. */
  remove(id: string): Promise<void>;
  close(): Promise<void>;
}
