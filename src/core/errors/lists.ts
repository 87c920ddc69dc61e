/** What shows the things of a kind: the command that a refusal names. Kinds that no command lists are left out. */
const listedBy: Readonly<Record<string, string>> = {
  project: 'project list',
  run: 'run list',
  review: 'review list',
  person: 'person list',
  token: 'token list',
  session: 'session list',
  deployment: 'environment show ENVIRONMENT',
  log: 'run show NUMBER',
};

/** The commands that refusals of things that are not there name. */
export const listCommands: readonly string[] = Object.values(listedBy);

/** What to do where a thing of this kind is not there. */
export const hintToFind = (kind: string): string =>
  Object.hasOwn(listedBy, kind)
    ? `\`tsunagi ${listedBy[kind]}\` shows what there is.`
    : 'It may have been removed: look at the page or the answer that named it.';
