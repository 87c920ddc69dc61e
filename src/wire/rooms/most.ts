/** Hosts that an edge names at once as not being what the table says. */
export const mostWithout = 1_000;
