/** One round of work. `done` is what was found before; gives what is new. */
export function round(found, done) {
  const fresh = found.filter((one) => !done.has(one));
  for (const one of fresh) done.add(one);
  return fresh;
}
