/** Every link of a page leads to a file that is there. */
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';

let wrong = 0;
for (const name of readdirSync('public', { recursive: true })) {
  if (!name.endsWith('.html')) continue;
  const text = readFileSync(join('public', name), 'utf8');
  for (const [, link] of text.matchAll(/(?:href|src)="([^"#?]+)/g)) {
    if (/^[a-z]+:/.test(link)) continue;
    const file = link.startsWith('/') ? join('public', link) : join('public', dirname(name), link);
    if (existsSync(file)) continue;
    console.error(`${name}: ${link} leads nowhere`);
    wrong++;
  }
}
process.exitCode = wrong ? 1 : 0;
console.log(wrong ? `${wrong} links lead nowhere` : 'every link leads somewhere');
