/** A pull request as the code host knows it. */
export interface Pull {
  number: number;
  title: string;
  branch: string;
  base: string;
  head: string;
  open: boolean;
  trusted: boolean;
  /** What the service has told of its review: the newest, and how often it was another text than before. */
  comment?: { text: string; revision: number; edits: number };
}
