/** Where the frames of a WebSocket begin and end (RFC 6455, 5.2): between two of them one of our own can be sent. */

export interface Frames {
  take(chunk: Buffer): void;
  /** The last byte was the end of a frame. */
  between(): boolean;
  /** A close frame has passed. */
  closed(): boolean;
}

/** Most bytes of a frame's head: two, eight of a length, four of a mask. */
const headBytes = 14;

/** Follows what one side sends, from the first byte after the switch on. Payloads are counted, not kept. */
export function watchFrames(first: Buffer): Frames {
  let head: Buffer = Buffer.alloc(0);
  /** Bytes of the payload that are still to come. */
  let left = 0;
  let closed = false;
  const take = (chunk: Buffer): void => {
    for (let at = 0; at < chunk.length; ) {
      if (left > 0) {
        const now = Math.min(left, chunk.length - at);
        left -= now;
        at += now;
        continue;
      }
      const had = head.length;
      head = Buffer.concat([head, chunk.subarray(at, at + headBytes - had)]);
      const size = sizeOf(head);
      if (size === null) return;
      at += size.head - had;
      left = size.payload;
      closed ||= ((head[0] as number) & 0x0f) === 0x8;
      head = Buffer.alloc(0);
    }
  };
  take(first);
  return { take, between: () => left === 0 && head.length === 0, closed: () => closed };
}

/** Bytes of a frame's head and payload; null while too little of the head has come. */
function sizeOf(head: Buffer): { head: number; payload: number } | null {
  if (head.length < 2) return null;
  const second = head[1] as number;
  const short = second & 0x7f;
  const mask = second & 0x80 ? 4 : 0;
  const extended = short === 126 ? 2 : short === 127 ? 8 : 0;
  if (head.length < 2 + extended) return null;
  const payload = extended === 0 ? short : extended === 2 ? head.readUInt16BE(2) : Number(head.readBigUInt64BE(2));
  return head.length < 2 + extended + mask ? null : { head: 2 + extended + mask, payload };
}
