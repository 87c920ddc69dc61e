/**
 * Takes secrets out of a stream of bytes, in the forms in which programs print them: as they are, base64 (RFC 4648, also in the
 * middle of other bytes and with the URL alphabet), URL-encoded (RFC 3986), JSON-escaped, and each longer line of a secret that has
 * several. A secret that is cut by the end of a chunk is found, too: what may be its beginning is held back until more is known.
 */

/** Characters that a secret must have at least: a shorter one would be found in innocent text. */
export const secretLength = 4;

export interface Masker {
  /** The bytes that can be shown now. */
  take(bytes: Buffer): Buffer;
  /** What was held back; the stream goes on as if it began anew. */
  rest(): Buffer;
  /** How many bytes of what was taken are held back. */
  held(): number;
  /** A whole text. */
  text(text: string): string;
}

const asIs: Masker = { take: (bytes) => bytes, rest: () => Buffer.alloc(0), held: () => 0, text: (text) => text };

/** `secrets` is name → value; in their place stands `‹NAME›`. */
export function makeMasker(secrets: Readonly<Record<string, string>>): Masker {
  const shown = new Map<string, string>();
  for (const [name, value] of Object.entries(secrets))
    for (const form of formsOf(value))
      if (!shown.has(form)) shown.set(form, Buffer.from(`‹${name}›`, 'utf8').toString('latin1'));
  if (shown.size === 0) return asIs;
  // Bytes are looked at as latin1 characters, one each, so that nothing depends on where a character is cut. The longest form wins.
  const forms = [...shown.keys()].sort((a, b) => b.length - a.length);
  const pattern = new RegExp(forms.map((one) => one.replace(/[\\^$.*+?()[\]{}|/-]/g, '\\$&')).join('|'), 'g');
  const longest = forms[0]?.length ?? 0;
  const replace = (text: string) => text.replace(pattern, (found) => shown.get(found) as string);
  let held = '';
  return {
    take(bytes) {
      const text = held + bytes.toString('latin1');
      const cut = safeLength(text, forms, longest, pattern);
      held = text.slice(cut);
      return Buffer.from(replace(text.slice(0, cut)), 'latin1');
    },
    rest() {
      const text = held;
      held = '';
      return Buffer.from(replace(text), 'latin1');
    },
    held: () => held.length,
    text: (text) => Buffer.from(replace(Buffer.from(text, 'utf8').toString('latin1')), 'latin1').toString('utf8'),
  };
}

/**
 * How much of `text` can be decided on: all before the first place from which it may yet become one of the forms. A place inside of a
 * form that is there already is none: that form is taken out as a whole.
 */
function safeLength(text: string, forms: readonly string[], longest: number, pattern: RegExp): number {
  const mayBecome = (from: number): number => {
    for (let at = Math.max(from, text.length - longest + 1); at < text.length; at++) {
      const tail = text.slice(at);
      if (forms.some((form) => form.length > tail.length && form.startsWith(tail))) return at;
    }
    return text.length;
  };
  pattern.lastIndex = 0;
  for (let from = 0; ; ) {
    const open = mayBecome(from);
    pattern.lastIndex = from;
    const found = pattern.exec(text);
    if (!found || found.index >= open) return open;
    from = found.index + found[0].length;
  }
}

/** Every form of a secret as latin1 text of its bytes. */
export function formsOf(value: string): string[] {
  const forms = new Set<string>();
  const add = (text: string) => {
    if (text.length >= secretLength) forms.add(Buffer.from(text, 'utf8').toString('latin1'));
  };
  const lines = value.split(/\r?\n/);
  const pieces = [
    value,
    ...(lines.length > 1 ? lines.map((line) => line.trim()).filter((line) => line.length >= 8) : []),
  ];
  for (const piece of pieces) {
    add(piece);
    add(encodeURIComponent(piece));
    // As forms are sent: a space is a plus.
    add(encodeURIComponent(piece).replaceAll('%20', '+'));
    add(encodeURIComponent(piece).replace(/[!'()*]/g, (one) => `%${one.charCodeAt(0).toString(16).toUpperCase()}`));
    const json = JSON.stringify(piece).slice(1, -1);
    add(json);
    add(json.replaceAll('/', '\\/'));
    add(json.replace(/[^\x20-\x7e]/g, (one) => `\\u${one.charCodeAt(0).toString(16).padStart(4, '0')}`));
  }
  for (const one of base64Forms(Buffer.from(value, 'utf8'))) add(one);
  return [...forms];
}

/** What base64 writes for these bytes at each of the three places where they can begin; without the characters that their neighbours share. */
function base64Forms(bytes: Buffer): string[] {
  const forms = [bytes.toString('base64'), bytes.toString('base64url')];
  for (const before of [0, 1, 2]) {
    const text = Buffer.concat([Buffer.alloc(before), bytes])
      .toString('base64')
      .replace(/=+$/, '');
    const from = before === 0 ? 0 : before + 1;
    const inner = text.slice(from, (before + bytes.length) % 3 === 0 ? text.length : -1);
    // Too short to mean this secret alone.
    if (inner.length >= 6) forms.push(inner, inner.replaceAll('+', '-').replaceAll('/', '_'));
  }
  return forms;
}
