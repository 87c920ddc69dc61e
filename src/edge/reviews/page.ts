/** Pages of the edge itself: nothing of a program is in them, and nothing of theirs runs but what stands here. */
import { createHash } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';

export const escaped = (text: string): string => text.replace(/[&<>"']/g, (one) => `&#${one.charCodeAt(0)};`);

/** A path of this host that somebody gave: two slashes, or a slash and its mirror, would lead to another one. */
export const pathHere = (to: string | null): string => (to !== null && /^\/(?![/\\])[!-~]*$/.test(to) ? to : '/');

const style = `:root{color-scheme:light dark;--paper:#f6f1e6;--sheet:#fffdf8;--line:#ddd6c6;--ink:#1d2330;--second:#565d6b;--indigo:#274472;--vermilion:#bf3b26}
@media(prefers-color-scheme:dark){:root{--paper:#12151c;--sheet:#1a1f29;--line:#333b49;--ink:#e9e6dd;--second:#aab0bb;--indigo:#8fb0e6;--vermilion:#f0806a}}
*{box-sizing:border-box}body{margin:0;min-height:100vh;display:grid;place-items:center;padding:24px;background:var(--paper);color:var(--ink);font:16px/1.5 system-ui,sans-serif}
main{width:100%;max-width:460px;padding:32px;background:var(--sheet);border:1px solid var(--line);border-radius:10px}
h1{margin:0 0 8px;font-size:21px;line-height:1.3}p{margin:0 0 12px;color:var(--second)}svg{display:block;margin:0 0 16px}
.why{color:var(--vermilion)}button{font:inherit;font-weight:600;padding:8px 16px;color:var(--sheet);background:var(--indigo);border:0;border-radius:6px;cursor:pointer}
button:focus-visible{outline:3px solid var(--indigo);outline-offset:2px}[hidden]{display:none}
.thread{stroke:var(--line)}.run{stroke:var(--indigo);stroke-dasharray:40 400;animation:run 2.4s linear infinite}@keyframes run{from{stroke-dashoffset:440}to{stroke-dashoffset:0}}
@media(prefers-reduced-motion:reduce){.run{animation:none;stroke-dasharray:none}}`;

const hashOf = (text: string): string => `'sha256-${createHash('sha256').update(text).digest('base64')}'`;
const styleHash = hashOf(style);

export interface Page {
  status: number;
  /** As HTML; what comes from outside is escaped. */
  title: string;
  main: string;
  /** The line above it moves: something goes on. */
  runs?: boolean;
  script?: string;
}

export function sendPage(request: IncomingMessage, response: ServerResponse, page: Page): void {
  const { title, main, runs = false, script = '' } = page;
  const run = runs ? '<path id="run" class="run" d="M2 14h86c8 0 8-12 20-12s12 24 0 24-12-12-4-12h114"/>' : '';
  const body = `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><meta name="robots" content="noindex"><title>${title}</title><style>${style}</style></head>
<body><main><svg width="220" height="28" viewBox="0 0 220 28" fill="none" stroke-width="3" stroke-linecap="round" aria-hidden="true"><path class="thread" d="M2 14h86c8 0 8-12 20-12s12 24 0 24-12-12-4-12h114"/>${run}</svg>
${main}</main>${script ? `<script>${script}</script>` : ''}</body></html>`;
  response.writeHead(page.status, {
    'content-type': 'text/html; charset=utf-8',
    'cache-control': 'no-store',
    'referrer-policy': 'no-referrer',
    'content-security-policy': `default-src 'none'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'; script-src ${script ? hashOf(script) : "'none'"}; style-src ${styleHash}`,
    'content-length': Buffer.byteLength(body),
  });
  response.end(request.method === 'HEAD' ? undefined : body);
}
