/** What is said of volumes, and of the agents that have them. */
import { entry, type ErrorEntry } from './entry.js';

export const ofVolumes = {
  volume_no_agent: entry(
    503,
    'No agent is there that could hold its files.',
    'Start one that takes `live`: docs/operating.md says how; it is asked again by itself.',
    true,
  ),
  volume_away: entry(
    503,
    '{agent}, where its files are, gives no sign of life.',
    'Start that agent again. If its machine is lost: restore a backup on another one, with `tsunagi resource restore … --on AGENT`.',
    true,
  ),
  volume_waits: entry(
    503,
    '{part} waits for {agent}, where its volume {name} is: that agent gives no sign of life.',
    'Start that agent again. If its machine is lost: restore a backup of {name} on another one, with `tsunagi resource restore … --on AGENT`.',
    true,
  ),
  volume_disk: entry(
    507,
    '{agent} has no room for {size}: {free} are free.',
    'Make room on its disk, or ask for less; it is asked again by itself.',
    true,
  ),
  volume_smaller: entry(
    422,
    'It holds up to {size} by now: it can’t be made smaller.',
    'Write a `size` that is as large; for a smaller one, declare a volume of another name and restore a backup into it.',
  ),
  volume_untrusted: entry(
    422,
    'The volumes of this review hold {size} together; those of untrusted pull requests may hold {most}.',
    'Ask for less, or let somebody of the project push the branch.',
  ),
  volume_apart: entry(
    409,
    '{part} has volumes on several machines: {agents}.',
    'Restore all of them on one, with `tsunagi resource restore … --on AGENT`.',
  ),
  volume_gone: entry(
    409,
    'Its files are not on {agent} any more: somebody has removed them by another way.',
    'Restore a backup, or remove the resource and deploy again.',
  ),
  volume_small: entry(
    422,
    'The backup does not fit: it holds more than {size}.',
    'Write a larger `size`, deploy that, then restore again.',
  ),
  volume_closed_first: entry(
    409,
    'It can be made larger only while nobody uses it.',
    'Its programs are ended for that, and started again.',
  ),
  volume_in_use: entry(
    409,
    '{count} of the programs that use it have not ended yet.',
    'It is tried again by itself.',
    true,
  ),
  volume_failed: entry(
    500,
    '{agent} could not do it: {detail}',
    'Look at the log of that agent; it is asked again by itself.',
    true,
  ),
  volume_missing: entry(
    409,
    'The volume {name} is not on this agent’s machine.',
    'Look at it with `tsunagi resource show`; where its files are lost, restore a backup.',
  ),
  resource_no_database: entry(
    409,
    '{name} is a volume: it has neither logins nor tables.',
    'Programs see its files in /volumes/{name}; so does `tsunagi shell`.',
  ),
  resource_no_volume: entry(
    409,
    '{name} is a database: it is on no agent’s machine.',
    'Restore it without saying where.',
  ),
  volume_agent: entry(
    422,
    'No agent {name} is there that takes live environments.',
    '`tsunagi agent list` shows them.',
  ),
} as const satisfies Record<string, ErrorEntry>;
