/** What the first bytes of a PNG say (PNG Specification, third edition, 5.2 and 11.2.1): its size, before anything of it is decoded. */
const signature = Buffer.from([0x89, 0x50, 0x4e, 0x47, 0x0d, 0x0a, 0x1a, 0x0a]);

/** Pixels each way; null: these bytes are no PNG. */
export function pngSize(bytes: Uint8Array): { width: number; height: number } | null {
  const data = Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  if (data.length < 24 || !data.subarray(0, 8).equals(signature) || data.toString('latin1', 12, 16) !== 'IHDR')
    return null;
  return { width: data.readUInt32BE(16), height: data.readUInt32BE(20) };
}
