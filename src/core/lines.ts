/** How many lines end in these bytes. */
export function countLines(bytes: Uint8Array): number {
  let count = 0;
  for (let at = bytes.indexOf(10); at >= 0; at = bytes.indexOf(10, at + 1)) count++;
  return count;
}
