/** The terminal's colours. */
const shades: Record<number, string> = {
  31: 'text-vermilion',
  91: 'text-vermilion',
  32: 'text-moss',
  92: 'text-moss',
  33: 'text-ochre',
  93: 'text-ochre',
  34: 'text-indigo',
  94: 'text-indigo',
  36: 'text-indigo',
  96: 'text-indigo',
  90: 'text-second',
};

/** Select Graphic Rendition (ECMA-48, 8.3.117) for weight and the eight colours; every other sequence is dropped. */
export function coloured(text: string): React.ReactNode {
  if (!text.includes('\u001b')) return text.replace(/\r/g, '');
  const parts: React.ReactNode[] = [];
  let style = '';
  let weight = '';
  let from = 0;
  // biome-ignore lint/suspicious/noControlCharactersInRegex: these are the terminal's own
  for (const match of text.matchAll(/\u001b\[([0-9;?]*)([A-Za-z])/g)) {
    if (match.index > from)
      parts.push(
        <span key={from} className={`${style} ${weight}`}>
          {text.slice(from, match.index)}
        </span>,
      );
    from = match.index + match[0].length;
    if (match[2] !== 'm') continue;
    for (const code of (match[1] || '0').split(';').map(Number)) {
      if (code === 0) [style, weight] = ['', ''];
      else if (code === 1) weight = 'font-semibold';
      else if (code === 22) weight = '';
      else if (code === 39) style = '';
      else if (shades[code]) style = shades[code];
    }
  }
  if (from < text.length)
    parts.push(
      <span key={from} className={`${style} ${weight}`}>
        {text.slice(from)}
      </span>,
    );
  return parts;
}
