/** A pull request as its code host shows it: how its newest commit stands, and what the service has to say of its review. */
import type { Pull } from './pull.js';

const escaped = (text: string): string => text.replace(/[&<>"']/g, (one) => `&#${one.charCodeAt(0)};`);

export const pageHeaders = {
  'content-type': 'text/html; charset=utf-8',
  'content-security-policy': "default-src 'none'; style-src 'unsafe-inline'; img-src http: https:",
};

/** As much of CommonMark as its comments have: paragraphs, strong text, code, links to the web and pictures that lead there, escapes and character references. */
export function rendered(markdown: string): string {
  const inline = (text: string): string => {
    let out = '';
    for (let rest = text; rest !== ''; ) {
      const found =
        /^\\([!-/:-@[-`{-~])/.exec(rest) ??
        /^&#(\d{1,7});/.exec(rest) ??
        /^\*\*(.+?)\*\*/s.exec(rest) ??
        /^`([^`]+)`/.exec(rest) ??
        /^\[!\[([^\]\\]*)\]\((https?:\/\/[^\s()<>]+)\)\]\((https?:\/\/[^\s()<>]+)\)/.exec(rest) ??
        /^\[((?:[^\]\\]|\\.)*)\]\((https?:\/\/[^\s()<>]+)\)/.exec(rest);
      const [whole = '', one = '', url, page] = found ?? [];
      if (!found) out += escaped(rest.slice(0, 1));
      else if (whole.startsWith('\\')) out += escaped(one);
      else if (whole.startsWith('&')) out += escaped(String.fromCodePoint(Number(one)));
      else if (whole.startsWith('**')) out += `<strong>${inline(one)}</strong>`;
      else if (whole.startsWith('`')) out += `<code>${escaped(one)}</code>`;
      else if (whole.startsWith('[!'))
        out += `<a href="${escaped(page ?? '')}"><img src="${escaped(url ?? '')}" alt="${escaped(one)}"></a>`;
      else out += `<a href="${escaped(url ?? '')}">${inline(one)}</a>`;
      rest = rest.slice(found ? whole.length : 1);
    }
    return out;
  };
  return markdown
    .split(/\n{2,}/)
    .map((paragraph) => `<p>${inline(paragraph)}</p>`)
    .join('\n');
}

const style = `:root{color-scheme:light}body{margin:0;background:#eef0ea;color:#23261f;font:16px/1.55 system-ui,sans-serif}
main{max-width:760px;margin:40px auto;padding:0 24px}h1{font-size:24px;line-height:1.3;margin:0 0 4px}.of{color:#5c6156;margin:0 0 24px}
article{background:#fff;border:1px solid #cfd3c8;border-radius:4px;padding:4px 22px;margin:0 0 16px}article header{color:#5c6156;font-size:14px;padding:10px 0 0}
code{font:14px ui-monospace,monospace;background:#eef0ea;padding:1px 5px}a{color:#1f5a3c}img{max-width:100%;border:1px solid #cfd3c8}`;

export function pullPage(
  repository: string,
  pull: Pull,
  status: { state: string; run: number; url: string } | undefined,
): string {
  const { number, title, branch, base, head, open, comment } = pull;
  const edits = comment?.edits ? `, written anew ${comment.edits === 1 ? 'once' : `${comment.edits} times`}` : '';
  return `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>${number} ${escaped(title)}</title><style>${style}</style></head><body><main>
<h1>${escaped(title)}</h1><p class="of">Change ${number} of ${escaped(repository)}, ${escaped(branch)} into ${escaped(base)}, ${open ? 'open' : 'closed'}</p>
<article><header>Newest commit</header><p><code>${head.slice(0, 7)}</code> ${status ? `<a href="${escaped(status.url)}">run ${status.run}</a> ${escaped(status.state)}` : 'nobody has told how it stands'}</p></article>
${comment ? `<article><header>Tsunagi${edits}</header>${rendered(comment.text)}</article>` : ''}
</main></body></html>`;
}
