/**
 * The head of a push (gitprotocol-pack, "Reference Update Request"): lines about shallow commits, then commands, then a flush. It is
 * read here and nowhere else, and more strictly than git reads it. Git also takes commands from inside a push certificate, capabilities
 * from any line, and newlines in a name. Every check of ours looks at this reading, so a head that git could read in another way is refused.
 */

/** One ref that a push moves. An id of zeros becomes null. `ref` is null when its bytes are not UTF-8. */
export interface PushCommand {
  before: string | null;
  after: string | null;
  ref: string | null;
}

export interface PushHead {
  commands: PushCommand[];
  capabilities: string[];
}

/** Commands and shallow lines that a head may have. */
const linesAtMost = 20_000;
/** Bytes of the longest line of the protocol. */
const lineBytes = 65_520;

/** Reads a head piece by piece. It looks at each byte once. */
export interface PushReader {
  /** Returns the head when it is complete, and null before that. Throws when the bytes are not the head of a push. */
  push(chunk: Buffer): PushHead | null;
}

export function openPushHead(): PushReader {
  const head: PushHead = { commands: [], capabilities: [] };
  let rest: Buffer[] = [];
  let have = 0;
  /** Bytes of the current line; null while its length is unknown. */
  let size: number | null = null;
  let lines = 0;
  const take = (bytes: number): Buffer => {
    const all = rest.length === 1 ? (rest[0] as Buffer) : Buffer.concat(rest);
    rest = all.length > bytes ? [all.subarray(bytes)] : [];
    have -= bytes;
    return all.subarray(0, bytes);
  };
  return {
    push(chunk) {
      if (chunk.length) rest.push(chunk);
      have += chunk.length;
      for (;;) {
        if (size === null) {
          if (have < 4) return null;
          const text = take(4).toString('latin1');
          size = /^[0-9a-f]{4}$/i.test(text) ? Number.parseInt(text, 16) : Number.NaN;
          if (Number.isNaN(size) || (size > 0 && size < 4) || size > lineBytes) throw notAPush();
          if (size === 0) return head;
          if (++lines > linesAtMost) throw notAPush();
        }
        if (have < size - 4) return null;
        readLine(take(size - 4), head);
        size = null;
      }
    },
  };
}

const notAPush = () => new Error('not a push');

const shallowLine = /^shallow [0-9a-f]{40}\n?$/;
/** The name has no control characters: git would keep a newline that it does not find at the very end of the line. */
// biome-ignore lint/suspicious/noControlCharactersInRegex: they are refused
const commandText = /^([0-9a-f]{40}) ([0-9a-f]{40}) ([^\u0000-\u001f\u007f]+)$/;

/** `shallow ID`, or `OLD NEW REF`. Capabilities follow a NUL on the first command alone. Both may end in one newline. */
function readLine(line: Buffer, head: PushHead): void {
  const text = line.toString('latin1');
  if (shallowLine.test(text)) return;
  const zero = text.indexOf('\0');
  const found = commandText.exec(zero < 0 ? text.replace(/\n$/, '') : text.slice(0, zero));
  if (!found) throw notAPush();
  if (zero >= 0) {
    const list = text.slice(zero + 1).replace(/\n$/, '');
    // biome-ignore lint/suspicious/noControlCharactersInRegex: they are refused
    if (head.commands.length > 0 || /[\u0000-\u001f\u007f]/.test(list)) throw notAPush();
    head.capabilities = list.split(' ').filter(Boolean);
  }
  const id = (hex: string) => (/^0+$/.test(hex) ? null : hex);
  head.commands.push({
    before: id(found[1] as string),
    after: id(found[2] as string),
    ref: decode(Buffer.from(found[3] as string, 'latin1')),
  });
}

function decode(bytes: Buffer): string | null {
  try {
    return new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(bytes);
  } catch {
    return null;
  }
}
