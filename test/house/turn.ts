/**
 * Cases of one kind that take long: of kills at every step, say. The run of all suites plays every third of them, and the id of
 * its commit says which; a suite that is named plays all of its own, and `npm run crash` all there are.
 */
export function inTurn<T>(cases: readonly T[], part = 3): T[] {
  const turn = process.env.TSUNAGI_TEST_TURN;
  if (!turn) return [...cases];
  return cases.filter((_, at) => (at + Number(turn)) % part === 0);
}
