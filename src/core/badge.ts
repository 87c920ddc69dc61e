/** A small picture (SVG 1.1) of how a branch stands: the state's own mark, and words, never colour alone. */

export type BadgeState = 'passed' | 'failed' | 'running' | 'none';

const look: Record<BadgeState, { words: string; colour: string; mark: string }> = {
  passed: {
    words: 'passed',
    colour: '#4d7332',
    mark: '<circle cx="13" cy="11" r="6.5"/><path d="M10 11.2l2.1 2.1 4-4.4" fill="none" stroke="#fffdf8" stroke-width="1.7"/>',
  },
  failed: {
    words: 'failed',
    colour: '#bf3b26',
    mark: '<path d="M13 3.8l7.2 7.2-7.2 7.2L5.8 11z"/><path d="M10.8 8.8l4.4 4.4m0-4.4l-4.4 4.4" stroke="#fffdf8" stroke-width="1.6"/>',
  },
  running: {
    words: 'running',
    colour: '#a86a0a',
    mark: '<path d="M13 3.8l7.2 7.2-7.2 7.2L5.8 11z" fill="none" stroke="#a86a0a" stroke-width="1.6"/><path d="M8.6 13.8h8.8L13 18.2z"/>',
  },
  none: { words: 'not run yet', colour: '#565d6b', mark: '<circle cx="13" cy="11" r="2.6"/>' },
};

const escaped = (text: string): string => text.replace(/[&<>"']/g, (one) => `&#${one.charCodeAt(0)};`);

/** About so many units wide is a text of this size in a usual sans serif. */
const width = (text: string): number =>
  Math.ceil(
    [...text].reduce(
      (sum, one) =>
        sum + (/[ilj.,:;'|!-]/.test(one) ? 3.4 : /[mwMW]/.test(one) ? 9.6 : one.charCodeAt(0) > 0x2e7f ? 12 : 6.5),
      0,
    ),
  );

export function badgeSvg(label: string, state: BadgeState): string {
  const { words, colour, mark } = look[state];
  const shown = label.length > 60 ? `${label.slice(0, 59)}…` : label;
  const [first, second] = [width(shown), width(words)];
  const whole = 26 + first + 6 + second + 10;
  return `<svg xmlns="http://www.w3.org/2000/svg" width="${whole}" height="22" viewBox="0 0 ${whole} 22" role="img" aria-label="${escaped(`${shown}: ${words}`)}"><title>${escaped(`${shown}: ${words}`)}</title><rect x=".5" y=".5" width="${whole - 1}" height="21" rx="6" fill="#fffdf8" stroke="#ddd6c6"/><g fill="${colour}">${mark}</g><g font-family="Hanken Grotesk,system-ui,sans-serif" font-size="12"><text x="26" y="15" fill="#1d2330" textLength="${first}" lengthAdjust="spacingAndGlyphs">${escaped(shown)}</text><text x="${32 + first}" y="15" font-weight="600" fill="${colour}" textLength="${second}" lengthAdjust="spacingAndGlyphs">${escaped(words)}</text></g></svg>\n`;
}
