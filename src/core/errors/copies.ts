/** What is said of copies of databases that reviews begin with. */
import { entry, type ErrorEntry } from './entry.js';

export const ofCopies = {
  copy_untrusted: entry(200, 'A stranger’s review gets no copy of anybody’s data.', 'Fill it with `seed`.'),
  copy_absent: entry(
    200,
    '{environment} has no database {name} that could be copied.',
    'Deploy there first; then reset the review: `tsunagi review reset REVIEW --yes`.',
  ),
  copy_elsewhere: entry(200, '{name} of {environment} is kept elsewhere, and is not copied.', 'Fill it with `seed`.'),
  copy_unscrubbed: entry(
    200,
    '{environment} does not say what makes a copy of its data fit for others.',
    'Declare `scrub` for it on the main branch, have an owner permit copies, then `tsunagi review reset REVIEW --yes`.',
  ),
  copy_unpermitted: entry(
    200,
    'No owner has permitted copies of {environment}.',
    'An owner permits them with `tsunagi environment copies {environment} --permit`; then reset the review: `tsunagi review reset REVIEW --yes`.',
  ),
  copy_scrub_changed: entry(
    200,
    'The `scrub` of {environment} is another one than an owner has permitted copies with.',
    'An owner looks at it and permits it anew with `tsunagi environment copies {environment} --permit`; then `tsunagi review reset REVIEW --yes`.',
  ),
  copy_disk: entry(
    507,
    'A copy needs {size}, and the database server of reviews has {free} left.',
    'Make room on its disk, then `tsunagi resource snapshot`.',
  ),
  snapshot_gone: entry(
    409,
    'The copy was replaced by a newer one just now.',
    'It is tried again by itself with that one.',
    true,
  ),
  scrub_failed: entry(
    200,
    'scrub failed: {detail}',
    'Read its output with `tsunagi resource snapshot … --log`, fix it and deploy that there; the copy is removed.',
  ),
  scrub_unknown: entry(
    409,
    'The agent went away while scrub ran, again and again: nobody knows what it has left.',
    'Look at the agents, then `tsunagi resource snapshot`; the copies are removed.',
  ),
  snapshot_unplanned: entry(
    409,
    '{environment} can’t be copied: it declares no `scrub` on the main branch, or no owner has permitted copies.',
    'Declare `scrub`; an owner permits copies with `tsunagi environment copies {environment} --permit`.',
  ),
  copies_standing: entry(
    409,
    '{environment} is a review: copies are made of environments that stay.',
    'Name a standing environment.',
  ),
} as const satisfies Record<string, ErrorEntry>;
