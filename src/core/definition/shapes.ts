/**
 * The definition language as one table. The reader (`read.ts`), the JSON Schema (`schema.ts`) and the reference
 * in docs/ are made from it, so that they can't differ.
 */
import { parseFrozen } from '../calendar/frozen.js';
import { mostSteps, parseCutover } from '../cutover/steps.js';
import { parseDayTime } from '../calendar/schedule.js';
import { checkedName } from '../domains/names.js';
import { parseDuration, parseShortTime } from '../durations.js';
import { mostPages } from '../pictures/pages.js';
import { parseSize } from '../sizes.js';
import { unsafePath } from '../paths.js';
import { takenVariable } from '../variables/change.js';
import { reviewAccesses, resourceKinds, useKinds } from '../states.js';
import { mostStartMs, pullRequests } from './model.js';

export type Shape =
  | { kind: 'text'; what: string; example: string; pattern?: string; fits?: (text: string) => boolean }
  | { kind: 'choice'; of: readonly string[] }
  | { kind: 'list'; of: Shape; orOne?: boolean; least?: number; most?: number }
  | { kind: 'named'; of: Shape; name: NameShape; least?: number }
  /** `renamed`: a key that had another name → what is written now. */
  | { kind: 'record'; keys: Record<string, Key>; orText?: Shape; renamed?: Record<string, string> };

export interface NameShape {
  what: string;
  pattern: string;
  example: string;
  /** Names that can't be declared, with the reason. */
  taken?: (name: string) => string | null;
}

export interface Key {
  about: string;
  shape: Shape;
  required?: boolean;
  /** Known by name, refused as not yet supported. */
  later?: boolean;
}

const text = (what: string, example: string, pattern?: string, fits?: (text: string) => boolean): Shape => ({
  kind: 'text',
  what,
  example,
  ...(pattern ? { pattern } : {}),
  ...(fits ? { fits } : {}),
});
const later = (about: string): Key => ({ about, shape: text('', ''), later: true });

export const name: NameShape = { what: 'a name', pattern: '^[a-z][a-z0-9-]{0,39}$', example: 'unit' };
const reserved = ['environment', 'release', 'project', 'run', 'variable'];
const partName: NameShape = {
  ...name,
  example: 'api',
  taken: (one) => (reserved.includes(one) ? 'it begins references of variables' : null),
};
const resourceName: NameShape = {
  ...name,
  example: 'timetable',
  taken: (one) =>
    reserved.includes(one)
      ? 'it begins references of variables'
      : one === 'localhost'
        ? 'programs find the resource under its name'
        : null,
};
const variableName: NameShape = {
  what: 'the name of a variable',
  pattern: '^[A-Za-z_][A-Za-z0-9_]{0,99}$',
  example: 'LOG_LEVEL',
  taken: (one) => (takenVariable(one) ? 'the service sets it' : null),
};

const command = text('a command', 'npm test', undefined, (one) => one.trim() !== '' && !one.includes('\0'));
const path = text('a path inside the project', 'web/dist', undefined, (one) => unsafePath(one) === null);
const folder = text(
  'a folder inside the project',
  'web/dist',
  undefined,
  (one) => one === '.' || unsafePath(one) === null,
);
const pattern = text(
  'a path or pattern inside the project',
  'src/',
  undefined,
  (one) => unsafePath(one.replace(/^except\s+/, '')) === null,
);
const durationOrNever = text(
  'a duration, or `never`',
  '20m',
  '^([1-9][0-9]{0,6}[smhd]|never)$',
  (one) => one === 'never' || parseDuration(one) !== null,
);
const duration = text('a duration', '10m', '^[1-9][0-9]{0,6}[smhd]$', (one) => parseDuration(one) !== null);
const reference = text('the name of a task', 'deps', name.pattern);
const pathText = '^/([A-Za-z0-9._~-]+(/[A-Za-z0-9._~-]+)*/?)?$';
const urlPath = text('a path that begins with /', '/api', pathText);
const range = text('a range of versions', '>=20 <23', '^[0-9A-Za-z.^~<>=|*x -]{1,100}$');
const value = text('text', 'info', undefined, (one) => !one.includes('\0'));
const boolean: Shape = { kind: 'choice', of: ['true', 'false'] };
const fromText = text('a reference', 'db.url', '^[a-z][a-z0-9-]*\\.[A-Za-z_][A-Za-z0-9_]*$');
const eachValue = text('a value without spaces', 'v1', '^[A-Za-z0-9._+-]{1,40}$');
const occasion = text(
  'the name of a branch, or `pull requests`',
  'release/*',
  '^(pull requests|[A-Za-z0-9._*][A-Za-z0-9._*/-]{0,199})$',
);
const cachePath = text(
  'a folder of its HOME or of the project',
  '~/.npm/',
  undefined,
  (one) => unsafePath(one.replace(/^~\//, '').replace(/\/$/, '')) === null,
);
const filePath = '^(/[A-Za-z0-9._~-]+)+$';
const sitePath: NameShape = {
  what: 'a path that begins with /',
  pattern: '^/([A-Za-z0-9._~-]+(/[A-Za-z0-9._~-]+)*/?)?$',
  example: '/assets/',
};
/** Token of RFC 9110, 5.6.2. */
const headerName: NameShape = {
  what: 'the name of a header',
  pattern: "^[A-Za-z0-9!#$%&'*+.^_`|~-]{1,100}$",
  example: 'Cache-Control',
  taken: (one) => (ownHeaders.has(one.toLowerCase()) ? 'the edge says it of each answer' : null),
};
const ownHeaders = new Set([
  'content-length',
  'content-encoding',
  'content-range',
  'transfer-encoding',
  'connection',
  'keep-alive',
  'upgrade',
  'trailer',
  'date',
  'etag',
  'accept-ranges',
]);
const headerValue = text('the text of a header', 'no-store', '^[\\x20-\\x7e]{1,4000}$');
const leadsTo = text(
  'a path or an address',
  '/timetable',
  undefined,
  (one) => /^\/(?![/\\])[\x21-\x7e]*$/.test(one) || /^https?:\/\/[\x21-\x7e]+$/.test(one),
);
const fitsName = (one: string): boolean => {
  try {
    return checkedName(one, []) !== '';
  } catch {
    return false;
  }
};
const paths = (of: Shape): Shape => ({ kind: 'list', of });

const task: Shape = {
  kind: 'record',
  keys: {
    reads: {
      about: 'Files and folders of the commit that the task sees. Default: all of the project’s folder.',
      shape: paths(pattern),
    },
    needs: {
      about: 'Tasks whose outputs it sees, and that must pass before it.',
      shape: { kind: 'list', of: reference },
    },
    run: {
      about: 'The command, or several, each recorded on its own.',
      shape: { kind: 'list', of: command, orOne: true, least: 1 },
      required: true,
    },
    makes: { about: 'Files and folders that are kept after a pass.', shape: paths(path) },
    network: { about: 'Whether it may reach the outside. Default: only its own loopback.', shape: boolean },
    timeout: { about: 'After this time the whole process tree is ended. Default: 30m.', shape: duration },
    variables: {
      about:
        'Its variables: literal text, or `from` a resource of the task (`db.url`), `run.commit`, `run.branch`, `project.name`, or `variable.NAME` that people have set for the project.',
      shape: {
        kind: 'named',
        of: {
          kind: 'record',
          keys: {
            from: { about: 'Where the value comes from.', shape: fromText, required: true },
            append: { about: 'Text that is appended to it.', shape: value },
          },
          renamed: { then: 'append' },
          orText: value,
        },
        name: variableName,
      },
    },
    results: {
      about: 'The file in which it writes its test results: JUnit XML or TAP, told from its content.',
      shape: path,
    },
    coverage: {
      about: 'The file in which it writes its coverage (LCOV): how much of the lines that a change touches is tested.',
      shape: path,
    },
    cache: {
      about:
        'Folders that are kept between attempts: of its HOME (`~/.npm/`) or of the project. Never part of the fingerprint; never shared with untrusted work.',
      shape: paths(cachePath),
    },
    shards: {
      about: 'How many pieces it is cut into; they run side by side with TSUNAGI_SHARD and TSUNAGI_SHARDS.',
      shape: text('a whole number from 2 to 50', '2', '^([2-9]|[1-4][0-9]|50)$'),
    },
    each: {
      about: 'Values for which it is repeated: a task for each of them, with the value in the process environment.',
      shape: { kind: 'named', of: { kind: 'list', of: eachValue, least: 1 }, name: variableName, least: 1 },
    },
    retry: {
      about: 'How often it is tried again after a failure; a pass is then marked flaky. Default: 0.',
      shape: text('a whole number from 0 to 5', '1', '^[0-5]$'),
    },
    resources: {
      about: 'What is made for each attempt and lives as long as it.',
      shape: {
        kind: 'named',
        of: {
          kind: 'record',
          keys: {
            kind: {
              about: 'postgres: an empty database.',
              shape: { kind: 'choice', of: ['postgres'] },
              required: true,
            },
          },
        },
        name: partName,
      },
    },
    reuse: { about: 'false: it always runs. Default: a pass with the same fingerprint is reused.', shape: boolean },
    for: {
      about:
        'Branches on which it runs (`*` stands for any characters but `/`), and `pull requests`. Default: all of them.',
      shape: { kind: 'list', of: occasion, orOne: true, least: 1 },
    },
    where: later('What it asks of agents.'),
  },
  renamed: { branches: 'for: [main]', pull_requests: 'for: [main, pull requests]' },
};

const instanceCount = text('a whole number from 1 to 50', '2', '^([1-9]|[1-4][0-9]|50)$');
const memory = text('a size from 16M to 512G', '256M', '^[1-9][0-9]{0,6}(\\.[0-9]{1,2})?[KMG]$', (one) => {
  const bytes = parseSize(one);
  return bytes !== null && bytes >= 16 * 1024 ** 2 && bytes <= 512 * 1024 ** 3;
});
const cpu = text(
  'a number of cores from 0.05 to 64',
  '0.5',
  '^[0-9]{1,2}(\\.[0-9]{1,2})?$',
  (one) => Number(one) >= 0.05 && Number(one) <= 64,
);
const sizeKeys: Record<string, Key> = {
  instances: {
    about:
      'How many processes of it run: a number, or bounds between which the processor that they take decides. Default: 1.',
    shape: {
      kind: 'record',
      keys: {
        min: { about: 'The fewest.', shape: instanceCount, required: true },
        max: { about: 'The most.', shape: instanceCount, required: true },
        cpu: {
          about: 'The share of its cores that each is to take.',
          shape: text('a share from 5% to 100%', '70%', '^([5-9]|[1-9][0-9]|100)%$'),
          required: true,
        },
      },
      orText: instanceCount,
    },
  },
  memory: {
    about:
      'How much memory each of them may take; one that takes more is ended. Default: 1 GiB; of a job as much as a task.',
    shape: memory,
  },
  cpu: { about: 'How many cores each of them may take. Default: all that are free.', shape: cpu },
};

const part: Shape = {
  kind: 'record',
  keys: {
    kind: {
      about:
        'site: files that the edge serves; server: a program that answers requests; worker: a program that answers none; job: a program that runs by the clock and ends.',
      shape: { kind: 'choice', of: ['site', 'server', 'worker', 'job'] },
      required: true,
    },
    needs: { about: 'Tasks whose outputs belong to its bytes.', shape: { kind: 'list', of: reference } },
    files: {
      about:
        'Files of the commit that belong to its bytes. Default: all of the project’s folder (a site without it: none).',
      shape: paths(pattern),
    },
    root: { about: 'The folder that a site serves; `.` is all of its files.', shape: folder },
    start: { about: 'The command that starts a server or worker.', shape: command },
    run: { about: 'The command of a job.', shape: command },
    at: {
      about:
        'The path of its address; default: /. Of a job: times of the day, or of one of the week, by the clocks of a place (`05:00 Europe/Oslo`, `mon 05:00 Asia/Tokyo`).',
      shape: {
        kind: 'list',
        of: text(
          'a path that begins with /, or a time of the day with its place',
          '/api',
          undefined,
          (one) => new RegExp(pathText).test(one) || parseDayTime(one) !== null,
        ),
        orOne: true,
        least: 1,
      },
    },
    every: { about: 'Of a job: how often it runs; at least `1m`.', shape: duration },
    timeout: { about: 'Of a job: after this time it is ended. Default: 30m.', shape: duration },
    fallback: {
      about: 'The file with which a site answers a visitor who goes to where there is none.',
      shape: path,
    },
    missing: { about: 'The file that a site shows, as 404, where there is none.', shape: path },
    maintenance: {
      about: 'The file that a site shows, as 503, while `prepare: { old: stopped }` keeps the old programs stopped.',
      shape: path,
    },
    settings: {
      about: 'A file of a site that is answered from the environment’s variables: the same bytes serve everywhere.',
      shape: {
        kind: 'record',
        keys: {
          at: {
            about: 'Its path, below that of the part.',
            shape: text('a path that begins with /', '/settings.json', filePath),
            required: true,
          },
          names: {
            about: 'Variables that it shows to everybody, as JSON; none may be a secret.',
            shape: { kind: 'list', of: text('the name of a variable', 'PUBLIC_API', variableName.pattern), least: 1 },
            required: true,
          },
        },
      },
    },
    headers: {
      about: 'Headers of a site’s answers, by path; one that ends with / means all below it.',
      shape: { kind: 'named', of: { kind: 'named', of: headerValue, name: headerName, least: 1 }, name: sitePath },
    },
    redirects: {
      about: 'Where paths of a site lead instead; one that ends with / leads all below it along.',
      shape: {
        kind: 'named',
        of: {
          kind: 'record',
          keys: {
            to: { about: 'A path of the same address, or an address elsewhere.', shape: leadsTo, required: true },
            permanent: {
              about: 'true: readers may remember it (308). Default: for now (307).',
              shape: boolean,
            },
          },
          orText: leadsTo,
        },
        name: sitePath,
      },
    },
    strip: { about: 'true: a server sees paths without its `at`. Default: as they were asked for.', shape: boolean },
    sticky: { about: 'true: a visitor stays with one instance of a server while it is there.', shape: boolean },
    http2: {
      about:
        'true: a server is asked in HTTP/2 without TLS (prior knowledge), with trailers and both ways at once. Default: HTTP/1.1.',
      shape: boolean,
    },
    ready: { about: 'The path that answers when a server is ready. Default: ready when it listens.', shape: urlPath },
    start_within: {
      about: 'The time in which a server or worker must be ready, up to 30m. Default: 60s.',
      shape: text(
        'a duration from 1s to 30m',
        '5m',
        '^[1-9][0-9]{0,4}[smh]$',
        (one) => (parseDuration(one) ?? 0) >= 1_000 && (parseDuration(one) ?? 0) <= mostStartMs,
      ),
    },
    immutable: {
      about:
        'Folders of a site whose files never change under their name, because the build puts a hash of the content there. Browsers keep them for a year.',
      shape: { kind: 'list', of: text('a folder, with / at the end', 'assets/', '^(?!/)[^\\s?#*]{1,200}/$'), least: 1 },
    },
    volumes: {
      about:
        'Volumes that its programs see, each as the folder /volumes/NAME. Such a part runs on the machine where they are.',
      shape: { kind: 'list', of: text('the name of a volume', 'uploads', name.pattern) },
    },
    ...sizeKeys,
  },
};

const resource: Shape = {
  kind: 'record',
  keys: {
    kind: {
      about:
        'postgres: a database of its own, whose login the programs get; volume: a folder of files that outlive deployments.',
      shape: { kind: 'choice', of: resourceKinds },
      required: true,
    },
    extensions: {
      about: 'Extensions that are made in a database: those that PostgreSQL calls trusted.',
      shape: { kind: 'list', of: text('the name of an extension', 'pg_trgm', '^[a-z][a-z0-9_-]{0,62}$') },
    },
    size: {
      about:
        'How much it may hold. A volume has one, and can be made larger later, not smaller. A database that holds as much can only be read, until there is room; default: what the operator allows.',
      shape: text(
        'a size from 16M to 1024G',
        '2G',
        '^[1-9][0-9]{0,6}(\\.[0-9]{1,2})?[KMG]$',
        (one) => (parseSize(one) ?? 0) >= 16 * 1024 ** 2 && (parseSize(one) ?? 0) <= 1024 ** 4,
      ),
    },
    backup: {
      about: 'When it is backed up. Default: on request alone.',
      shape: {
        kind: 'record',
        keys: {
          every: { about: 'How often.', shape: duration, required: true },
          keep: {
            about: 'How many of these are kept. Default: 7.',
            shape: text('a whole number from 1 to 100', '7', '^([1-9][0-9]?|100)$'),
          },
          try: {
            about: 'How often the newest is restored beside it, to see that it can be. Default: never.',
            shape: duration,
          },
        },
      },
    },
  },
};

const variable: Shape = {
  kind: 'record',
  keys: {
    default: { about: 'The value where nobody has set one.', shape: value },
    from: {
      about:
        'environment.name, environment.url, release.number, release.commit, project.name, a field of a resource (`timetable.url`), or variable.NAME: what people have set under that name.',
      shape: { ...fromText, example: 'environment.url' } as Shape,
    },
    append: { about: 'Text that is appended to the value that `from` gives.', shape: value },
    secret: { about: 'true: people set it, and its value is never shown again. Masked in every log.', shape: boolean },
    about: { about: 'What people should know when they set it.', shape: value },
    untrusted: { about: 'What untrusted reviews get in its place.', shape: value },
  },
  renamed: { then: 'append', strangers: 'untrusted' },
  orText: value,
};

const release: Shape = {
  kind: 'record',
  keys: {
    needs: {
      about: 'Tasks that must pass, with the needs of the parts: the evidence a release must have.',
      shape: { kind: 'list', of: reference },
    },
    parts: {
      about: 'What runs or is served.',
      shape: { kind: 'named', of: part, name: partName, least: 1 },
      required: true,
    },
    variables: {
      about: 'What servers, workers, prepare and verify get.',
      shape: { kind: 'named', of: variable, name: variableName },
    },
    prepare: {
      about: 'A command that runs once before new instances start; it must not wait for input.',
      shape: {
        kind: 'record',
        keys: {
          part: {
            about: 'The part whose bytes it sees.',
            shape: text('the name of a part', 'api', name.pattern),
            required: true,
          },
          run: { about: 'The command.', shape: command, required: true },
          timeout: { about: 'After this time it is ended, and the deployment fails. Default: 30m.', shape: duration },
          again: {
            about:
              'safe: it may be tried again after a try of which nobody knows how far it got. Default: a person decides.',
            shape: { kind: 'choice', of: ['safe'] },
          },
          old: {
            about:
              'stopped: the old programs end before it runs, and visitors are shown the `maintenance` page of a site until the new ones answer. Default: they serve on meanwhile.',
            shape: { kind: 'choice', of: ['stopped'] },
          },
        },
      },
    },
    resources: {
      about: 'What each environment has of its own: made with its first deployment, and kept over all of them.',
      shape: { kind: 'named', of: resource, name: resourceName },
    },
    migrations: {
      about: 'Files of the commit that are listed as migrations of the release.',
      shape: {
        kind: 'record',
        keys: {
          files: { about: 'Files and patterns.', shape: { kind: 'list', of: pattern, least: 1 }, required: true },
          one_way: {
            about:
              'Those of them that old programs can’t bear: a revert beyond one is refused unless it is told so, and while one is named here no traffic moves in shares.',
            shape: { kind: 'list', of: pattern, least: 1 },
          },
        },
      },
    },
  },
};

const environment: Shape = {
  kind: 'record',
  keys: {
    for: {
      about: 'pull requests: one environment for each open pull request.',
      shape: { kind: 'choice', of: [pullRequests] },
    },
    branch: {
      about: 'The branch whose newest release it takes automatically.',
      shape: text(
        'the name of a branch',
        'main',
        undefined,
        (one) => /^[^\s~^:?*[\\-][^\s~^:?*[\\]{0,199}$/.test(one) && !one.includes('..'),
      ),
    },
    verify: {
      about: 'A command that checks what is live, against TSUNAGI_ENVIRONMENT_URL; part of the evidence.',
      shape: {
        kind: 'record',
        keys: {
          reads: { about: 'Files of the release’s commit that it sees. Default: all.', shape: paths(pattern) },
          run: { about: 'The command.', shape: command, required: true },
        },
      },
    },
    after: {
      about: 'The environment whose verified releases it takes.',
      shape: {
        kind: 'record',
        keys: {
          environment: {
            about: 'The name of that environment.',
            shape: text('the name of an environment', 'staging', name.pattern),
            required: true,
          },
          healthy: {
            about:
              'How long it must have been live there in good health, without a pause. A newer one is taken there only when this one has, or is in poor health.',
            shape: duration,
          },
        },
        orText: text('the name of an environment', 'staging', name.pattern),
      },
    },
    promotion: {
      about: 'manual: a person promotes; automatic: as soon as the rules allow. Default: manual.',
      shape: { kind: 'choice', of: ['manual', 'automatic'] },
    },
    drafts: {
      about:
        'Of reviews: false: a pull request that is a draft gets one when it is none any more. Default: drafts get one.',
      shape: boolean,
    },
    data: {
      about: 'Of reviews: what their databases and volumes begin as. Default: empty.',
      shape: {
        kind: 'named',
        of: {
          kind: 'record',
          keys: {
            copy: {
              about:
                'The environment whose database or volume of that name is copied; its `scrub` has made the copy fit for others before anybody sees it, and an owner has permitted that.',
              shape: text('the name of an environment', 'staging', name.pattern),
              required: true,
            },
            fresh: {
              about: 'How old the copied data may be; older data is copied anew first. Default: 1d.',
              shape: duration,
            },
          },
          orText: text('empty', 'empty', '^empty$'),
        },
        name,
        least: 1,
      },
    },
    seed: {
      about:
        'Runs after `prepare` with the first deployment, when the data here is new; again only when the environment was closed and made anew. It has the files, volumes and variables of a part.',
      shape: {
        kind: 'record',
        keys: {
          part: {
            about: 'The part whose files it has.',
            shape: text('the name of a part', 'api', name.pattern),
            required: true,
          },
          run: { about: 'The command; it must not wait for input.', shape: command, required: true },
        },
      },
    },
    idle: {
      about: 'Of reviews: when they sleep and close, and what counts as use of them.',
      shape: {
        kind: 'record',
        keys: {
          sleep: {
            about:
              'Without a use for so long it falls asleep: its programs stand still, and go on with the next request. Default: 20m.',
            shape: durationOrNever,
          },
          end: {
            about: 'Asleep for so long, its programs end; with the next request they start anew. Default: 2h.',
            shape: duration,
          },
          close: {
            about: 'Without a use or a push for so long it closes, with all its data. Default: 3d.',
            shape: durationOrNever,
          },
          awake_limit: {
            about: 'Reviews that are awake at a time: above it the longest idle falls asleep. Default: no limit.',
            shape: text('a whole number from 1 to 1000', '6', '^([1-9][0-9]{0,2}|1000)$'),
          },
          count: {
            about:
              'What is use: `requests`; `connections` that stay open; `workers` that take more than a fiftieth of a core; `jobs`, which then also wake it. Default: requests and connections.',
            shape: { kind: 'list', of: { kind: 'choice', of: useKinds }, orOne: true, least: 1 },
          },
          except: {
            about: 'Requests that are no use: they neither keep it awake nor wake it.',
            shape: {
              kind: 'record',
              keys: {
                paths: {
                  about: 'Paths and patterns, such as `/health`.',
                  shape: {
                    kind: 'list',
                    of: text('a path of an address', '/health', '^/[^?#\\s]{0,300}$'),
                    orOne: true,
                    least: 1,
                  },
                },
                headers: {
                  about: 'Headers with patterns of their values, such as `user-agent: "*monitor*"`.',
                  shape: {
                    kind: 'named',
                    of: {
                      kind: 'list',
                      of: text('a pattern of a value', '*monitor*', '^[ -~]{1,200}$'),
                      orOne: true,
                      least: 1,
                    },
                    name: {
                      what: 'the name of a header',
                      pattern: '^[A-Za-z][A-Za-z0-9-]{0,60}$',
                      example: 'user-agent',
                    },
                    least: 1,
                  },
                },
              },
            },
          },
        },
      },
    },
    approvals: {
      about:
        'How many releasers must approve what it takes, each these very bytes; one of them at least has written nothing of it. Default: none.',
      shape: text('a whole number from 0 to 20', '2', '^([0-9]|1[0-9]|20)$'),
    },
    cutover: {
      about:
        'The steps in which the traffic moves to a new release, each for its time: `mirror for 5m`, in which copies of requests go to it and nobody sees what it answers; `10% for 2m`, rising, and a visitor stays on one side. After the last all of it moves. Default: all at once.',
      shape: {
        kind: 'list',
        of: text('a step', '10% for 2m', undefined, (one) => !('fault' in parseCutover([one]))),
        orOne: true,
        least: 1,
        most: mostSteps,
      },
    },
    guard: {
      about:
        'Bounds above which the traffic goes back by itself, while it moves and as long as the old servers are warm. Beside the old release the new one is judged without them, too.',
      shape: {
        kind: 'record',
        keys: {
          errors: {
            about: 'The share of answers that are errors: 5xx, or none.',
            shape: text(
              'a share from 0.01% to 50%',
              '1%',
              '^[0-9]{1,2}(\\.[0-9]{1,2})?%$',
              (one) => Number.parseFloat(one) >= 0.01 && Number.parseFloat(one) <= 50,
            ),
          },
          p95: {
            about: 'The time within which 95 of 100 answers begin.',
            shape: text('a time from 1ms to 60s', '800ms', '^[1-9][0-9]{0,4}(ms|s)$', (one) => {
              const ms = parseShortTime(one);
              return ms !== null && ms <= 60_000;
            }),
          },
          few: {
            about:
              'With too little traffic to judge by when the time of a step is over: `wait` (an hour at most, then a person decides), or `continue`. Default: continue.',
            shape: { kind: 'choice', of: ['wait', 'continue'] },
          },
        },
      },
    },
    frozen: {
      about:
        'Hours in which nothing is taken, by the clocks of a place: of each week, of each day, or between dates (`2026-12-20 to 2027-01-03 Europe/Oslo`). A revert is never held up.',
      shape: {
        kind: 'list',
        of: text(
          'hours with their place',
          'fri 16:00 to mon 07:00 Europe/Oslo',
          undefined,
          (one) => parseFrozen(one) !== null,
        ),
        orOne: true,
        least: 1,
        most: 20,
      },
    },
    warm: {
      about: 'How long replaced servers stay ready for a revert. Default: as the operator has set it, 15m.',
      shape: text('a duration up to 7d', '15m', '^[1-9][0-9]{0,6}[smhd]$', (one) => {
        const ms = parseDuration(one);
        return ms !== null && ms <= 7 * 86_400_000;
      }),
    },
    addresses: {
      about:
        'Names of its own under which it is reached, besides the one that the service gives. Each is proven by a TXT record first; `tsunagi address list` says which.',
      shape: {
        kind: 'list',
        of: text('the name of a host', 'departures.kohama.example', '^[^\\s*/:@]{1,253}$', (one) => fitsName(one)),
      },
    },
    parts: {
      about: 'Sizes of parts that differ here.',
      shape: { kind: 'named', of: { kind: 'record', keys: sizeKeys }, name },
    },
    access: {
      about:
        'Of reviews: who may look. `open`: everybody who knows the address; `signed-in`: people who are signed in at the console; `link`: these, and whoever has a link (`tsunagi review link`). Counts at once. Default: open.',
      shape: { kind: 'choice', of: reviewAccesses },
    },
    pictures: {
      about:
        'Paths of pages of which pictures are taken after each deployment; of a review beside what is live where its change leads to. An empty list: none. Default: of reviews their first page.',
      shape: {
        kind: 'list',
        of: text('a path of an address', '/departures', '^/[^#\\s\\x00-\\x1f\\x7f]{0,300}$'),
        orOne: true,
        most: mostPages,
      },
    },
    scrub: {
      about:
        'What makes a copy of its data fit for others: it runs on each new copy, with a login to that alone and without another network, before any review gets it. TSUNAGI_RESOURCE says which database or volume it is; files of a volume lie where `from: NAME.path` says.',
      shape: {
        kind: 'record',
        keys: {
          part: {
            about: 'The part whose files and variables it has, of the release that is live here.',
            shape: text('the name of a part', 'api', name.pattern),
            required: true,
          },
          run: { about: 'The command; it must not wait for input.', shape: command, required: true },
        },
      },
    },
    mirror: {
      about: 'Which requests are copied in a mirror: always GET and HEAD alone.',
      shape: {
        kind: 'record',
        keys: {
          paths: {
            about:
              'Paths below which also requests with cookies or an authorization are copied: there reading must change nothing. Default: none.',
            shape: { kind: 'list', of: urlPath, orOne: true, least: 1, most: 50 },
          },
          same: {
            about: 'Paths below which the new release must answer with the same bytes. Default: none.',
            shape: { kind: 'list', of: urlPath, orOne: true, least: 1, most: 50 },
          },
        },
      },
    },
  },
  renamed: { opens: 'for: pull requests' },
};

/** The whole file. */
export const file: Shape & { kind: 'record' } = {
  kind: 'record',
  keys: {
    tsunagi: { about: 'The version of this format.', shape: { kind: 'choice', of: ['1'] }, required: true },
    tools: {
      about: 'Tools and the versions that will do.',
      shape: {
        kind: 'named',
        of: range,
        name: { what: 'the name of a tool', pattern: '^[a-z][a-z0-9-]{0,39}$', example: 'node' },
      },
    },
    tasks: { about: 'Named pieces of work.', shape: { kind: 'named', of: task, name } },
    release: { about: 'What a commit becomes when its evidence is complete.', shape: release },
    environments: {
      about: 'Where releases go. Taken from the main branch alone.',
      shape: { kind: 'named', of: environment, name },
    },
  },
  renamed: { versions: 'tools' },
};
