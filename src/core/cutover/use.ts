/** What of the requests to an environment counts as use of it: what does not, neither keeps it awake nor wakes it. */
import { compileGlob, wildcard } from '../glob.js';

export interface Except {
  /** Patterns of paths, from the address on: what they name and all below. */
  paths: string[];
  /** Header in lower case → patterns of its value, in which `*` stands for any text; upper and lower case are the same. */
  headers: Record<string, string[]>;
}

/** Characters of a header that are looked at. */
const mostOfHeader = 500;

/** Whether a request counts, for a path without its search and the headers as Node has them. */
export function usesBut(
  except: Except,
): (path: string, headers: Record<string, string | string[] | undefined>) => boolean {
  const paths = except.paths.map((one) => compileGlob(one.replace(/^\/+|\/+$/g, '')));
  const headers = Object.entries(except.headers).map(
    ([name, patterns]) => [name, patterns.map((one) => wildcard(one.toLowerCase()))] as const,
  );
  return (path, given) => {
    const plain = path.replace(/^\/+|\/+$/g, '');
    if (paths.some((fits) => fits(plain))) return false;
    return !headers.some(([name, fits]) => {
      const value = [given[name] ?? []].flat().join(', ').slice(0, mostOfHeader).toLowerCase();
      return value !== '' && fits.some((one) => one(value));
    });
  };
}
