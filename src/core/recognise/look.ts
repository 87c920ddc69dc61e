/** Small ways of looking at a tree. */
import { parse, stringify } from 'yaml';
import type { Tree } from './model.js';

/** A text as a YAML scalar inside flow or block: plain where it reads well and YAML reads the same text again. */
export const scalar = (text: string): string => {
  const plain = /^[A-Za-z0-9_./-][A-Za-z0-9_./ =+@-]*$/.test(text) && !/^(yes|no|on|off)$/i.test(text) && readsAs(text);
  return plain ? text : stringify(text, { defaultStringType: 'QUOTE_DOUBLE', lineWidth: 0 }).trim();
};

const readsAs = (text: string): boolean => {
  try {
    return parse(`k: [${text}]`).k[0] === text && parse(`k: ${text}`).k === text;
  } catch {
    return false;
  }
};

export const list = (items: readonly string[]): string => `[${items.map(scalar).join(', ')}]`;

/** A word of a shell command; one with anything unusual in it is quoted. */
export const word = (text: string): string =>
  /^[A-Za-z0-9_./@=:+-]+$/.test(text) ? text : `'${text.replaceAll("'", "'\\''")}'`;

/** The tree below a folder, with paths relative to it. */
export function below(tree: Tree, folder: string): Tree {
  if (!folder) return tree;
  const cut = (path: string) => path.slice(folder.length + 1);
  return {
    paths: tree.paths.filter((path) => path.startsWith(`${folder}/`)).map(cut),
    texts: new Map(
      [...tree.texts].filter(([path]) => path.startsWith(`${folder}/`)).map(([path, text]) => [cut(path), text]),
    ),
  };
}

/** Folders that hold no source of the project: what tools write or fetch. */
const foreign =
  /(^|\/)(node_modules|\.git|vendor|venv|\.venv|__pycache__|dist|build|out|target|coverage|\.next|site-packages)(\/|$)/;
export const own = (path: string): boolean => !foreign.test(path);

export function parseJson(text: string | undefined): Record<string, unknown> | null {
  try {
    const value: unknown = JSON.parse(text ?? '');
    return value && typeof value === 'object' && !Array.isArray(value) ? (value as Record<string, unknown>) : null;
  } catch {
    return null;
  }
}

export const record = (value: unknown): Record<string, unknown> =>
  value && typeof value === 'object' && !Array.isArray(value) ? (value as Record<string, unknown>) : {};
export const texts = (value: unknown): Record<string, string> =>
  Object.fromEntries(
    Object.entries(record(value)).filter((entry): entry is [string, string] => typeof entry[1] === 'string'),
  );

const readyPaths = ['/ready', '/readyz', '/health', '/healthz', '/api/ready', '/api/health', '/status', '/ping'];

/** A path at which a program's text says that it answers when it is ready. */
export const readyPath = (text: string): string | null =>
  readyPaths.filter((path) => new RegExp(`["'\`]${path}["'\`/]`).test(text)).sort((a, b) => b.length - a.length)[0] ??
  null;

/** Ports that a text names where it listens. */
export const namedPort = (text: string, pattern: RegExp): number | null => {
  const found = pattern.exec(text)?.slice(1).find(Boolean);
  const port = Number(found);
  return Number.isInteger(port) && port > 0 && port < 65_536 ? port : null;
};
