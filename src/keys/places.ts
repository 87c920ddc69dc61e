/** Where a text is kept encrypted: its table and row, which are authenticated with it. */
export type SealedTable =
  | 'variables'
  | 'projects.event_secret'
  | 'projects.credential'
  | 'answers'
  | 'logins'
  | 'resources'
  | 'snapshots'
  | 'certificates'
  | 'authorities'
  | 'subscriptions'
  | 'destinations';

/**
 * @param row what names the row: its id; of a variable project, scope, name and version; of an answer actor and key; of an authority its
 * address
 */
export const sealedPlace = (table: SealedTable, ...row: (string | number)[]): string => JSON.stringify([table, ...row]);
