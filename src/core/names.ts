/** First steps of the console's own pages and files; a project of such a name could not be opened there. */
export const pageNames: ReadonlySet<string> = new Set([
  'activity',
  'add',
  'alerts',
  'api',
  'assets',
  'delivery',
  'gate',
  'metrics',
  'reviews',
  'runs',
  'sign-in',
  'you',
]);

/** First steps of the console's pages of a project; those of an environment of such a name would hide behind them. */
export const projectPageNames: ReadonlySet<string> = new Set(['compare', 'deployments', 'releases', 'runs']);
