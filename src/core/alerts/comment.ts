/** What a code host shows at a pull request of its review: one comment in Markdown (CommonMark 0.31), written anew when it has changed. */

import { shareText } from '../pictures/pages.js';

export interface ReviewFacts {
  /** `sailings/pr-214` */
  place: string;
  /** Its page at the console. */
  page: string;
  /** Where it is looked at; null: nothing is there (yet, or any more). */
  url: string | null;
  /** Who may look; null: everybody. */
  access: 'signed-in' | 'link' | null;
  closed: boolean;
  /** Its newest commit waits until somebody has allowed it. */
  allow: boolean;
  /** The commit that is shown; null: none. */
  shown: { commit: string; release: number } | null;
  head: string;
  run: { number: number; url: string; state: string } | null;
  tests: { passed: number; failed: number; failing: string | null } | null;
  /** Why the newest release is not shown. */
  failure: string | null;
  data: { name: string; copy: string; of: Date | null }[];
  /** How what is shown looks; null: no picture of it was taken. `image`: where anybody may look at it; null: nobody may but who is signed in. */
  picture: { share: number | null; image: string | null } | null;
  /** What differs from where the change leads to; null: nothing is live there. */
  differs: { environment: string; parts: string[]; migrations: number } | null;
}

/** Whatever others have written, as text: no markup, no link, nobody is called by it. */
export const asText = (text: string, most = 200): string =>
  (text.length > most ? `${text.slice(0, most)}…` : text)
    .replace(/[\p{Cc}\p{Cf}\p{Zl}\p{Zp}]+/gu, ' ')
    .replace(/[\\`*_{}[\]()#+\-.!|~:]/g, '\\$&')
    .replace(/[&<>@]/g, (one) => `&#${one.charCodeAt(0)};`);

const short = (commit: string): string => commit.slice(0, 7);
const count = (of: number, one: string): string => `${of} ${one}${of === 1 ? '' : 's'}`;

/** In the order in which somebody wants to know it: where, what is there, its tests, what differs. */
export function commentText(facts: ReviewFacts): string {
  const { closed, url, page, shown, head, run, tests, failure, differs } = facts;
  if (closed) return `The review of this pull request is closed. Its runs and logs stay: [${facts.place}](${page}).`;
  const lines: string[] = [];
  const access = { 'signed-in': ' (for people who are signed in)', link: ' (with a link, or signed in)' };
  lines.push(
    url && shown
      ? `**[Look at this change](${url})**${facts.access ? access[facts.access] : ''}: it shows \`${short(shown.commit)}\`${shown.commit === head ? '' : `, not yet \`${short(head)}\``}.`
      : 'Nothing is to be looked at yet.',
  );
  if (facts.allow) lines.push('Its newest commit waits until somebody who has looked at it allows it.');
  if (failure) lines.push(`The newest release is not shown: ${asText(failure)}`);
  if (run) {
    const words = tests
      ? tests.failed
        ? `${count(tests.failed, 'test')} failed${tests.failing ? ` (${asText(tests.failing, 100)})` : ''}, ${tests.passed} passed`
        : `${count(tests.passed, 'test')} passed`
      : run.state;
    lines.push(`[Run ${run.number}](${run.url}): ${words}.`);
  }
  for (const { name, copy, of } of facts.data)
    if (of)
      lines.push(`Data of ${name}: a copy of ${copy}’s as of ${of.toISOString().slice(0, 16).replace('T', ' ')} UTC.`);
  if (differs && shown) {
    const parts = [
      ...(differs.parts.length ? [differs.parts.join(', ')] : []),
      ...(differs.migrations ? [count(differs.migrations, 'migration')] : []),
    ];
    lines.push(
      parts.length
        ? `Differs from ${differs.environment}: ${parts.join('; ')}.`
        : `The same as in ${differs.environment}.`,
    );
  }
  if (facts.picture && shown) {
    const { share, image } = facts.picture;
    const beside = differs ? ` from ${differs.environment}` : '';
    const words =
      share === null
        ? 'How it looks'
        : share === 0
          ? `It looks the same${differs ? ` as ${differs.environment}` : ''}`
          : `What one sees differs${beside} by ${shareText(share)}`;
    lines.push(image ? `${words}:\n\n[![What changed](${image})](${page})` : `[${words}](${page}).`);
  }
  lines.push(`[More at ${facts.place}](${page})`);
  return lines.join('\n\n');
}
