import { v7 } from 'uuid';

/** A fresh id; ids grow with time, so they order lists. */
export const newId = (): string => v7();
