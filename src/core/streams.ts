/** What stands before the bytes of a message in a terminal's stream, and how long one may be. */
export const channels = { input: 0, output: 1, errors: 2 } as const;

/** Bytes of one message at most. */
export const messageBytes = 64 * 1024;
