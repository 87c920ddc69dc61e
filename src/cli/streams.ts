/** What speaks WebSocket takes its time to begin: a file of its own beside this one, loaded when it is wanted. */
type Streams = typeof import('./stream.js');

export const streams = async (): Promise<Streams> =>
  (await import(new URL('./stream.js', import.meta.url).href)) as Streams;
