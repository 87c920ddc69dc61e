/** Splits what an attempt prints by the marks that its runner puts behind each command. */
export interface Piece {
  section: number;
  bytes: Buffer;
}

/** A mark is its text between two zero bytes; one that is cut in two by a chunk is put together again. */
export function splitSections(mark: string): {
  push(chunk: Buffer): Piece[];
  end(): Piece[] /** Marks seen. */;
  seen(): number;
} {
  const needle = Buffer.from(`\0${mark}\0`);
  let section = 0;
  let rest: Buffer = Buffer.alloc(0);
  return {
    push(chunk) {
      const pieces: Piece[] = [];
      let all = rest.length ? Buffer.concat([rest, chunk]) : chunk;
      for (let at = all.indexOf(needle); at >= 0; at = all.indexOf(needle)) {
        if (at > 0) pieces.push({ section, bytes: all.subarray(0, at) });
        section++;
        all = all.subarray(at + needle.length);
      }
      const kept = beginningOf(needle, all);
      if (all.length > kept) pieces.push({ section, bytes: all.subarray(0, all.length - kept) });
      rest = Buffer.from(all.subarray(all.length - kept));
      return pieces;
    },
    end() {
      const pieces = rest.length ? [{ section, bytes: rest }] : [];
      rest = Buffer.alloc(0);
      return pieces;
    },
    seen: () => section,
  };
}

/** How many bytes at the end may be the beginning of a mark. */
function beginningOf(needle: Buffer, bytes: Buffer): number {
  for (let length = Math.min(needle.length - 1, bytes.length); length > 0; length--) {
    if (bytes.subarray(bytes.length - length).equals(needle.subarray(0, length))) return length;
  }
  return 0;
}
