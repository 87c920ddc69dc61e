/** A stand-in for the name servers of a domain: answers A and TXT questions (RFC 1035) on loopback from what it was told. */
import { createSocket } from 'node:dgram';
import type { AddressInfo } from 'node:net';
import packet from 'dns-packet';

export interface NameServer {
  /** `127.0.0.1:PORT` */
  address: string;
  /** What a name has; left out: nothing of that kind. */
  set(name: string, records: { TXT?: string[]; A?: string[] } | null): void;
  /** While it is away no question is answered. */
  away(is: boolean): void;
  close(): void;
}

export async function startNameServer(port = 0): Promise<NameServer> {
  const names = new Map<string, { TXT?: string[]; A?: string[] }>();
  let silent = false;
  const socket = createSocket('udp4');
  socket.on('message', (bytes, from) => {
    if (silent) return;
    let asked: packet.Packet;
    try {
      asked = packet.decode(bytes);
    } catch {
      return;
    }
    const [question] = asked.questions ?? [];
    const known = question && names.get(question.name.toLowerCase());
    const texts = question?.type === 'TXT' ? (known?.TXT ?? []) : question?.type === 'A' ? (known?.A ?? []) : [];
    const answers = texts.map((data) => ({
      type: question?.type as 'A',
      name: question?.name ?? '',
      ttl: 1,
      // A text of more than 255 octets travels in pieces.
      data: (question?.type === 'TXT' ? (data.match(/.{1,255}/g) ?? ['']) : data) as string,
    }));
    const flags = packet.AUTHORITATIVE_ANSWER | (known ? 0 : 3);
    socket.send(
      packet.encode({ type: 'response', id: asked.id ?? 0, flags, questions: asked.questions ?? [], answers }),
      from.port,
      from.address,
    );
  });
  await new Promise<void>((resolve) => socket.bind(port, '127.0.0.1', resolve));
  return {
    address: `127.0.0.1:${(socket.address() as AddressInfo).port}`,
    set(name, records) {
      if (records) names.set(name.toLowerCase(), records);
      else names.delete(name.toLowerCase());
    },
    away: (is) => {
      silent = is;
    },
    close: () => socket.close(),
  };
}
