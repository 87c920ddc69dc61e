/** Terminals as people see them. */
import type { Db } from '../../records/database.js';
import { instanceById } from '../../records/deployments/instances.js';
import type { TerminalRow } from '../../records/deployments/terminals.js';
import type { Terminal } from '../../wire/environments/terminals.js';
import { iso, said } from './basics.js';

export async function terminalView(db: Db, row: TerminalRow): Promise<Terminal> {
  const instance = row.instance_id === null ? null : await instanceById(db, row.instance_id);
  return {
    id: row.id,
    who: row.who,
    command: row.command,
    tty: row.tty,
    part: row.part,
    beside: row.instance_id === null ? null : `${row.part}.${instance?.position ?? '?'}`,
    state: row.state,
    why: row.why,
    exit: row.exit,
    issue: said(row.issue),
    createdAt: row.created_at.toISOString(),
    openedAt: iso(row.opened_at),
    endedAt: iso(row.ended_at),
  };
}
