/** How deep a text of JSON nests. Texts that nest without end are refused before anything walks through them. */

/** Lists and objects in each other that are taken from outside. */
export const deepest = 64;

/** Whether lists and objects of a text are in each other more than `most` deep. It need not be valid JSON. */
export function isDeeper(text: string, most = deepest): boolean {
  let depth = 0;
  let quoted = false;
  for (let at = 0; at < text.length; at++) {
    const one = text.charCodeAt(at);
    if (quoted) {
      // A backslash takes the character after it along.
      if (one === 0x5c) at++;
      else if (one === 0x22) quoted = false;
    } else if (one === 0x22) quoted = true;
    else if (one === 0x5b || one === 0x7b) {
      if (++depth > most) return true;
    } else if (one === 0x5d || one === 0x7d) depth--;
  }
  return false;
}
