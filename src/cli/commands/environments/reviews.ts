/** review list, show, open, link, extend, wake, sleep, reset, close. */
import type { Command } from 'commander';
import { durationText, parseDuration } from '../../../core/durations.js';
import { CodedError } from '../../../core/errors/errors.js';
import type { Environment, EnvironmentDetail } from '../../../wire/environments/environments.js';
import type { PageOf } from '../../../wire/parts.js';
import type { EndedLinks, MadeLink, ReviewLink } from '../../../wire/environments/reviews.js';
import { call, environmentPlace, get, post, projectName } from '../../api.js';
import { ago, bold, bytes, faint, plain, say, short, state, table } from '../../print.js';
import { give, type Shared, shared } from '../shared.js';

/** Milliseconds between two looks at one that is on its way. */
const askMs = 200;

type Review = Environment & { review: NonNullable<Environment['review']> };
const isReview = (one: Environment): one is Review => one.review !== null;

const ahead = (time: string | null): string =>
  time === null ? 'not by itself' : `in ${durationText(Math.max(0, Date.parse(time) - Date.now()))}`;

/** What the change is: the title of a pull request, or a branch. */
const about = ({ pullRequest, review }: Review): string =>
  plain(pullRequest ? pullRequest.title : `branch ${review.branch ?? ''}`);

/** `asleep (frozen)`, `live`, `live, poor`. */
const shownState = ({ state: now, health, review }: Review): string =>
  review.depth && now === 'asleep'
    ? `${state(now)} ${faint(review.depth)}`
    : now === 'live' && health !== 'good'
      ? `${state(now)} ${state(health)}`
      : state(now);

/** The next thing that happens by itself. */
function next({ state: now, review, moving, issue }: Review): string {
  if (issue) return plain(issue.says);
  if (moving) return `r${moving.release} ${moving.state}`;
  if (review.wakeIssue) return `could not be woken: ${plain(review.wakeIssue.says)}`;
  const closes = review.closesAt ? `closes ${ahead(review.closesAt)}` : '';
  return now === 'live' && review.sleepsAt ? `sleeps ${ahead(review.sleepsAt)}; ${closes}` : closes;
}

export function reviewCommands(program: Command): void {
  const review = program.command('review').description('environments of pull requests and branches');

  shared(
    review.command('list').description('reviews that are open: awake or asleep, and what happens next'),
    'tsunagi review list --project sailings',
  ).action(async (options: Shared) => {
    const { items } = await get<PageOf<Environment>>(
      `/api/projects/${await projectName(options.project)}/environments`,
    );
    const reviews = items.filter(isReview);
    give(options, { items: reviews, next: null }, () => {
      if (reviews.length === 0)
        return say('None is open.', faint('A pull request opens one; `tsunagi review open BRANCH` one for a branch.'));
      say(
        table(
          ['REVIEW', 'STATE', 'RELEASE', 'USED', 'NEXT', 'OF'],
          reviews.map((one) => [
            one.name,
            shownState(one),
            one.live ? `r${one.live.release} ${short(one.live.commit.id)}` : '',
            ago(one.review.usedAt),
            next(one),
            about(one),
          ]),
        ),
      );
    });
  });

  shared(
    review.command('show <review>').description('one review: where it is, what it has, when it sleeps and closes'),
    'tsunagi review show sailings/pr-214',
  ).action(async (text: string, options: Shared) => {
    const place = await environmentPlace(text, options.project);
    const detail = await get<EnvironmentDetail>(place.path);
    give(options, detail, () => showReview(detail));
  });

  shared(
    review.command('open <branch>').description('one for a branch that has no pull request; it takes its releases'),
    'tsunagi review open winter-timetable --project sailings',
  ).action(async (branch: string, options: Shared) => {
    const project = await projectName(options.project);
    const opened = await post<Environment>(`/api/projects/${project}/reviews`, { branch });
    give(options, opened, (one) =>
      say(
        `${one.project}/${one.name} takes the releases of ${plain(branch)}: ${one.url}`,
        faint(`tsunagi review show ${one.project}/${one.name}`),
      ),
    );
  });

  shared(
    review
      .command('link <review>')
      .description('an address by which whoever has it looks at the review, shown once; where its `access` is `link`'),
    'tsunagi review link sailings/pr-214 --for 3d',
  )
    .option('--for <duration>', 'how long it is good: up to 90d', '3d')
    .option('--list', 'those that are good; no address is shown again')
    .option('--end [link]', 'take that one back, or all of them')
    .action(async (text: string, options: Shared & { for: string; list?: boolean; end?: string | true }) => {
      const place = await environmentPlace(text, options.project);
      const shown = `${place.project}/${place.name}`;
      if (options.end !== undefined)
        return give(
          options,
          await call<EndedLinks>('DELETE', `${place.path}/links`, options.end === true ? {} : { link: options.end }),
          ({ count }) => say(count ? `Taken back: ${count} of ${shown}.` : `None of ${shown} was good.`),
        );
      if (options.list)
        return give(options, await get<PageOf<ReviewLink>>(`${place.path}/links`), ({ items }) =>
          say(
            items.length
              ? table(
                  ['LINK', 'BY', 'MADE', 'USED', 'ENDS'],
                  items.map((one) => [
                    one.id.slice(-8),
                    plain(one.by),
                    ago(one.createdAt),
                    one.usedAt ? ago(one.usedAt) : 'never',
                    ahead(one.until),
                  ]),
                )
              : `None of ${shown} is good.`,
          ),
        );
      const ms = parseDuration(options.for);
      if (ms === null)
        throw new CodedError('usage', {
          detail: `${options.for} is no duration`,
          command: 'tsunagi review link --help',
        });
      give(options, await post<MadeLink>(`${place.path}/links`, { ms }), (one) => {
        say(one.url);
        process.stderr.write(`${faint(`Good ${ahead(one.until)}, for whoever has it.`)}\n`);
      });
    });

  const keeping = shared(
    review.command('extend <review>').description('it does not close by itself for so long from now'),
    'tsunagi review extend sailings/pr-214 --by 7d',
  ).option('--by <duration>', 'how long', '3d');
  keeping.action(async (text: string, options: Shared & { by: string }) => {
    const ms = parseDuration(options.by);
    if (ms === null)
      throw new CodedError('usage', {
        detail: `${options.by} is no duration`,
        command: 'tsunagi review extend --help',
      });
    const place = await environmentPlace(text, options.project);
    give(options, await post<Environment>(`${place.path}/keep`, { ms }), (one) =>
      say(`${one.project}/${one.name} closes ${ahead(one.review?.closesAt ?? null)} at the earliest.`),
    );
  });

  const act = (
    name: 'wake' | 'sleep' | 'reset' | 'close',
    description: string,
    over: (one: Environment) => boolean,
    done: (one: Environment) => string,
  ) => {
    const deletes = name === 'reset';
    const command = shared(
      review.command(`${name} <review>`).description(description),
      `tsunagi review ${name} sailings/pr-214${deletes ? ' --yes' : ''}`,
    ).option('--no-wait', 'do not wait until it is so');
    if (deletes) command.option('--yes', 'delete the data; without it the command shows what it would delete');
    command.action(async (text: string, options: Shared & { wait: boolean; yes?: boolean }) => {
      const place = await environmentPlace(text, options.project);
      if (deletes && !options.yes) return showReset(place.path, options);
      let one = await post<Environment>(`${place.path}/${name}`);
      while (options.wait && !over(one)) {
        await new Promise((resolve) => setTimeout(resolve, askMs));
        one = await get<Environment>(place.path);
      }
      const failed = options.wait && name === 'wake' && one.state !== 'live';
      if (failed) process.exitCode = 1;
      give(options, one, () =>
        say(
          !options.wait
            ? `${one.project}/${one.name} is ${one.state}.`
            : failed
              ? `${one.project}/${one.name} could not be woken: ${plain(one.review?.wakeIssue?.says ?? one.state)}`
              : done(one),
        ),
      );
    });
  };
  const shown = (one: Environment) => `${one.project}/${one.name}`;
  const settled = ({ state: now }: Environment) => now !== 'waking' && now !== 'falling asleep';
  act(
    'wake',
    'it is awake, as a visit to its address would have it',
    settled,
    (one) => `${shown(one)} is awake: ${one.url}`,
  );
  act(
    'sleep',
    'its programs rest until somebody comes to its address',
    settled,
    (one) => `${shown(one)} is ${one.state}${one.review?.depth ? `, ${one.review.depth}` : ''}.`,
  );
  act(
    'reset',
    'delete its data; it is made from scratch and takes its newest release',
    (one) => one.state !== 'closing',
    (one) => `The data of ${shown(one)} is deleted. It is made from scratch and takes its newest release.`,
  );
  act(
    'close',
    'close it, with its data and its address; its runs and logs stay',
    (one) => one.state === 'closed',
    (one) => `${shown(one)} is closed.`,
  );
}

function showReview(one: EnvironmentDetail): void {
  if (!isReview(one)) throw new CodedError('review_standing', { environment: `${one.project}/${one.name}` });
  const { review: life, live } = one;
  say(`${bold(`${one.project}/${one.name}`)} ${shownState(one)}  ${about(one)}`, one.url);
  if (live)
    say(`r${live.release} ${short(live.commit.id)} ${plain(live.commit.title)}, by ${plain(live.commit.author)}`);
  else say('Nothing is live there yet.');
  if (one.moving) say(`r${one.moving.release} comes there: ${one.moving.state}`);
  if (one.failed?.failure)
    say(`r${one.failed.release} failed, so the one before stays: ${plain(one.failed.failure.says)}`);
  if (one.issue) say(plain(one.issue.says), faint(plain(one.issue.next)));
  if (life.wakeIssue) say(`It could not be woken: ${plain(life.wakeIssue.says)}`, faint(plain(life.wakeIssue.next)));
  say(
    table(
      ['', ''],
      [
        ['opened', ago(life.openedAt)],
        ...(life.access === 'open' ? [] : [['opens for', accessWords[life.access]]]),
        ['used last', ago(life.usedAt)],
        [
          'sleeps',
          one.state === 'live' ? ahead(life.sleepsAt) : one.state === 'asleep' ? `since ${ago(life.since)}` : '',
        ],
        ['closes', ahead(life.closesAt)],
        ...one.resources.map((resource) => [
          `${resource.kind} ${plain(resource.name)}`,
          [
            resource.state,
            ...(resource.bytes == null ? [] : [bytes(resource.bytes)]),
            ...(resource.origin ? [originWords(resource.origin)] : []),
          ].join(', '),
        ]),
        ...one.instanceList
          .filter((item) => item.wanted)
          .map((item) => [`${plain(item.part)}.${item.position}`, item.state]),
      ],
    ),
  );
}

const originWords = ({ copy, of, why }: NonNullable<EnvironmentDetail['resources'][number]['origin']>): string =>
  of
    ? `a copy of ${plain(copy)}’s, as that was ${ago(of)}`
    : why
      ? `began empty: ${plain(why.says)}`
      : `waits for a copy of ${plain(copy)}’s`;

const accessWords = {
  'signed-in': 'people who are signed in',
  link: 'people who are signed in, and whoever has a link',
};

/** What a reset would delete; nothing is done. */
async function showReset(path: string, options: Shared): Promise<void> {
  const one = await get<EnvironmentDetail>(path);
  process.exitCode = 1;
  give(options, one, () =>
    say(
      `Resetting ${bold(plain(`${one.project}/${one.name}`))} ends its programs and deletes its data${one.resources.length ? `: ${one.resources.map((resource) => plain(resource.name)).join(', ')}` : ''}.`,
      `Nothing was done. Add --yes to delete it: tsunagi review reset ${one.project}/${one.name} --yes`,
    ),
  );
}
