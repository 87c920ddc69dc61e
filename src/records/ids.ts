import { v7 } from 'uuid';

/** A fresh id; ids grow with time, so they order lists. */
export const newId = (): string => v7();

/** The least id of those made from a moment on (RFC 9562, 5.7); milliseconds since the epoch. */
export const firstIdFrom = (ms: number): string => {
  const time = ms.toString(16).padStart(12, '0');
  return `${time.slice(0, 8)}-${time.slice(8)}-7000-8000-000000000000`;
};
