/** What is said of alerts and their ways out. */
import { entry, type ErrorEntry } from './entry.js';

export const ofDeliveries = {
  channel_refused: entry(
    422,
    '{where} refused it: {detail}.',
    'Look at its address, and at what it lets in; it is sent again by itself where that may help.',
    true,
  ),
  channel_silent: entry(422, '{where} did not answer in time.', 'Look at its address, and whether it is up.', true),
  channel_gone: entry(
    422,
    '{where} does not want it any more: {detail}.',
    'Take the alert away, or give it another address.',
  ),
  mail_unset: entry(
    422,
    'No mail server is set.',
    'An operator names one in TSUNAGI_MAIL (docs/operating.md); alerts may go to a webhook meanwhile.',
  ),
  mail_address: entry(422, '{address} is not a mail address.', 'Write it as m@kohama.example, without a name.'),
  alert_unknown: entry(404, 'There is no alert {name}.', '`tsunagi alert list` shows what there is.'),
  alert_topic: entry(422, '{topic} is nothing to be told of.', 'Choose of: {topics}.'),
  alerts_enough: entry(409, 'There are {most} alerts already.', 'Remove one first.'),
  alert_target: entry(
    422,
    'An alert goes either to a mail address or to a webhook.',
    'Give one of `--mail` and `--webhook`.',
  ),
  destination_unknown: entry(
    404,
    'There is no log destination {name}.',
    '`tsunagi destination list` shows what there is.',
  ),
  destination_target: entry(422, 'Logs go on either as syslog or as OTLP.', 'Give one of `--syslog` and `--otlp`.'),
  destination_header: entry(422, 'Syslog has no headers.', 'Leave `--header` out.'),
  destination_rejected: entry(
    422,
    '{where} took a round and rejected {count} of its lines: {why}.',
    'Look at what it takes; these lines are not sent again.',
  ),
  destinations_enough: entry(409, 'There are {most} log destinations already.', 'Remove one first.'),
} as const satisfies Record<string, ErrorEntry>;
