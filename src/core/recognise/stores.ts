/** What programs keep elsewhere: a database that can be proposed, and others that cannot, which is said. */
import { issue, type Issue } from '../errors/errors.js';
import { type Findings, line, type Tree } from './model.js';

interface Store {
  /** As people name it. */
  name: string;
  /** Names of packages that speak to it. */
  packages: RegExp;
}

const postgres: Store = {
  name: 'PostgreSQL',
  packages: /^(pg|pg-promise|postgres|slonik|psycopg2?(-binary)?|psycopg\[.*\]|asyncpg|pg8000|org\.postgresql)$/,
};
/** Stores that no definition declares. */
const others: Store[] = [
  { name: 'Redis', packages: /^(redis|ioredis|@redis\/client|bullmq|redis\.clients|aioredis)$/ },
  { name: 'MySQL or MariaDB', packages: /^(mysql2?|mariadb|pymysql|mysqlclient|com\.mysql|org\.mariadb\.jdbc)$/i },
  { name: 'MongoDB', packages: /^(mongodb|mongoose|pymongo|org\.mongodb)$/ },
];

/** Packages that receive uploads or write them to a folder. */
const uploads = /^(multer|formidable|express-fileupload|@fastify\/multipart|busboy|python-multipart)$/;
const writesUploads =
  /(?:mkdir(?:Sync)?|makedirs|createWriteStream|diskStorage)\b[^\n]{0,80}['"`]\.{0,2}\/?(uploads?|media|data)\b/;

/** Variables by which programs are given their database. */
const urlNames = /\b(DATABASE_URL|POSTGRES_URL|PG_URL)\b/;

/** Packages that manifests name, and the path of the manifest. */
function packagesOf({ texts }: Tree): Map<string, string> {
  const found = new Map<string, string>();
  const add = (name: string, path: string) => {
    if (!found.has(name)) found.set(name, path);
  };
  for (const [path, text] of texts) {
    const file = path.slice(path.lastIndexOf('/') + 1);
    if (file === 'package.json') {
      let manifest: unknown;
      try {
        manifest = JSON.parse(text);
      } catch {
        continue;
      }
      const { dependencies } = (manifest ?? {}) as { dependencies?: unknown };
      if (dependencies && typeof dependencies === 'object')
        for (const name of Object.keys(dependencies)) add(name, path);
    }
    if (file === 'requirements.txt')
      for (const [, name = ''] of text.matchAll(/^([A-Za-z0-9][\w.-]*(?:\[[\w,-]+\])?)/gm))
        add(name.toLowerCase(), path);
    if (file === 'pyproject.toml')
      for (const [, name = ''] of text.matchAll(/["']([A-Za-z0-9][\w.-]*(?:\[[\w,-]+\])?)\s*(?:[<>=~!].*)?["']/g))
        add(name.toLowerCase(), path);
    if (file === 'pom.xml') for (const [, name = ''] of text.matchAll(/<groupId>([\w.]+)<\/groupId>/g)) add(name, path);
  }
  return found;
}

/** The command of the manifest in the root that migrates, or null. */
function migrateOf({ texts }: Tree): { command: string; why: string } | null {
  try {
    const { scripts } = JSON.parse(texts.get('package.json') ?? '{}') as { scripts?: Record<string, unknown> };
    const name = ['migrate', 'db:migrate', 'migrations', 'migrate:latest'].find(
      (one) => typeof scripts?.[one] === 'string',
    );
    return name ? { command: `npm run ${name}`, why: `package.json has a script \`${name}\`` } : null;
  } catch {
    return null;
  }
}

/** Adds a database and its migration where both can be read off, and notes of what else programs need. */
export function withStores(found: Findings, tree: Tree): Findings {
  const program =
    found.parts.find((part) => part.kind === 'server') ?? found.parts.find((part) => part.kind === 'worker');
  if (!program) return found;
  const packages = packagesOf(tree);
  const by = ({ packages: pattern }: Store) => [...packages].find(([name]) => pattern.test(name));
  const notes: Issue[] = [];
  for (const store of others) {
    const hit = by(store);
    if (hit) notes.push(issue('recognise_store', { store: store.name, file: hit[1], package: hit[0] }));
  }
  const sources = [...tree.texts].filter(([path]) => /\.(([cm]?[jt]s)|py|java)$/.test(path));
  const upload = [...packages].find(([name]) => uploads.test(name));
  const folder = sources.map(([path, text]) => ({ path, hit: writesUploads.exec(text)?.[1] })).find(({ hit }) => hit);
  if (upload ?? folder)
    notes.push(
      issue('recognise_uploads', { file: folder?.path ?? upload?.[1] ?? '', folder: folder?.hit ?? 'uploads' }),
    );
  const speaks = by(postgres);
  const variable = [...tree.texts.values()].map((text) => urlNames.exec(text)?.[1]).find(Boolean);
  const all = { ...found, notes: [...found.notes, ...notes] };
  if (!speaks || !variable) return all;
  const migrate = migrateOf(tree);
  return {
    ...all,
    resources: [{ name: 'db', text: '{ kind: postgres }', why: `${speaks[1]} names ${speaks[0]}` }],
    variables: [
      ...all.variables.filter((one) => one.name !== variable),
      { name: variable, text: '{ from: db.url }', why: 'its programs read their database from it' },
    ],
    prepare: migrate && [
      line(`part: ${program.name}`, 'with the files of this part'),
      line(`run: ${migrate.command}`, `${migrate.why}; it runs before the servers of a new release start`),
    ],
  };
}
