/** A stand-in for the mail server of Kohama Ferries: takes every message (RFC 5321) on loopback and keeps it as a file (RFC 5322). */
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { buffer } from 'node:stream/consumers';
import { SMTPServer } from 'smtp-server';

export interface Mailbox {
  port: number;
  folder: string;
  /** The messages that have come, the oldest first. */
  all(): { subject: string; text: string }[];
  close(): Promise<void>;
}

export async function startMailbox(folder: string): Promise<Mailbox> {
  mkdirSync(folder, { recursive: true });
  const files = () => readdirSync(folder).sort();
  const server = new SMTPServer({
    authOptional: true,
    disabledCommands: ['STARTTLS', 'AUTH'],
    onData(stream, _session, done) {
      buffer(stream).then((bytes) => {
        writeFileSync(join(folder, `${String(files().length + 1).padStart(4, '0')}.eml`), bytes);
        done();
      }, done);
    },
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return {
    port: (server.server.address() as AddressInfo).port,
    folder,
    all: () =>
      files().map((name) => {
        const text = readFileSync(join(folder, name), 'utf8');
        return { subject: subjectOf(text), text };
      }),
    close: () => new Promise((resolve) => server.close(() => resolve())),
  };
}

/** Unfolded (RFC 5322, 2.2.3). */
const subjectOf = (text: string): string =>
  (/^Subject: (.*(?:\r?\n[ \t].*)*)/m.exec(text)?.[1] ?? '').replace(/\r?\n[ \t]/g, ' ');
