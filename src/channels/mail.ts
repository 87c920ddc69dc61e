/** Mail by SMTP (RFC 5321) through the server that an operator has set. */
import { wordsOf } from './words.js';
import nodemailer from 'nodemailer';
import type { Sent } from '../core/advance/deliveries.js';
import { issue } from '../core/errors/errors.js';

export interface MailSettings {
  host: string;
  port: number;
  /** TLS from the beginning; otherwise STARTTLS, which only a server on this machine may do without. Default false. */
  secure?: boolean;
  user?: string;
  password?: string;
  /** Whom it is from. */
  from: string;
}

export interface Mail {
  to: string;
  subject: string;
  text: string;
  /** The same each time it is sent: whoever has it twice can tell. */
  id: string;
}

export interface MailChannel {
  send(mail: Mail): Promise<Sent>;
}

/** Milliseconds until the connection and the greeting, and of silence. */
const connectMs = 10_000;
const silenceMs = 20_000;

/** An address alone (RFC 5321, 4.1.2, without quoted local parts): nothing that could name a second one. */
export const isMailAddress = (text: string): boolean =>
  text.length <= 254 && /^[A-Za-z0-9!#$%&'*+/=?^_`{|}~.-]{1,64}@[A-Za-z0-9.-]{1,190}$/.test(text);

export function openMail(settings: MailSettings | null): MailChannel {
  if (settings === null) return { send: async () => ({ done: false, again: true, issue: issue('mail_unset') }) };
  const { host, port, secure = false, user, password = '', from } = settings;
  const local = host === 'localhost' || host.startsWith('127.') || host === '::1';
  const domain = from.split('@').at(-1) ?? 'localhost';
  return {
    async send({ to, subject, text, id }) {
      const transport = nodemailer.createTransport({
        host,
        port,
        secure,
        requireTLS: !secure && !local,
        ...(user === undefined ? {} : { auth: { user, pass: password } }),
        connectionTimeout: connectMs,
        greetingTimeout: connectMs,
        socketTimeout: silenceMs,
        disableFileAccess: true,
        disableUrlAccess: true,
      });
      try {
        await transport.sendMail({
          from,
          to,
          subject: subject.replace(/[\r\n]+/g, ' ').slice(0, 300),
          text,
          messageId: `<${id}@${domain}>`,
          headers: { 'Auto-Submitted': 'auto-generated' },
        });
        return { done: true };
      } catch (error) {
        const { code = '', responseCode = 0 } = error as NodeJS.ErrnoException & { responseCode?: number };
        const detail = wordsOf(error);
        if (code === 'ETIMEDOUT') return { done: false, again: true, issue: issue('channel_silent', { where: host }) };
        // 5yz: the same will be refused again (RFC 5321, 4.2.1); 530 and 535 are about our own login.
        const final = responseCode >= 550 && responseCode < 560;
        return {
          done: false,
          again: !final,
          issue: issue(final ? 'channel_gone' : 'channel_refused', { where: host, detail }),
        };
      } finally {
        transport.close();
      }
    },
  };
}
