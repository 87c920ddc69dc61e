/** One entry of the registry of errors. `{name}` in a text is replaced by `data.name`. */
export interface ErrorEntry {
  /** HTTP status of an answer that carries this error. */
  status: number;
  /** Whether the same request may succeed later without a change. */
  retry: boolean;
  /** What happened and why. */
  says: string;
  /** The next thing to do. */
  next: string;
}

export const entry = (status: number, says: string, next: string, retry = false): ErrorEntry => ({
  status,
  retry,
  says,
  next,
});
