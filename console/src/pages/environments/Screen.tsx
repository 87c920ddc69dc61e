/** The screen of a terminal: what its program prints, and what is typed. Nothing of it can leave the screen. */
import { FitAddon } from '@xterm/addon-fit';
import { Terminal } from '@xterm/xterm';
import '@xterm/xterm/css/xterm.css';
import { useEffect, useRef } from 'react';
import { channels, messageBytes } from '../../../../src/core/streams';
import type { TerminalAsked } from '../../../../src/wire/environments/terminals';
import { useTheme } from '../../data/theme';

/** Bytes that wait to be drawn, above which what comes is left out: a browser's stream can't be held up. */
const waitingBytes = 8 * 1024 ** 2;

const reasons: Record<string, string> = {
  left: 'It has ended.',
  idle: 'It has ended: nothing was typed or printed for too long.',
  'too long': 'It has ended: it lasted for as long as one may.',
  'by hand': 'It has ended: somebody ended it.',
  failed: 'It could not begin.',
  lost: 'It has ended: the connection to its program was lost.',
};

export default function Screen({ asked, over }: { asked: TerminalAsked; over: (says: string) => void }) {
  const place = useRef<HTMLDivElement>(null);
  const screen = useRef<Terminal | null>(null);
  const told = useRef(over);
  told.current = over;
  const theme = useTheme();
  // biome-ignore lint/correctness/useExhaustiveDependencies: its colours are read from the theme
  useEffect(() => {
    if (screen.current) screen.current.options.theme = colours();
  }, [theme]);
  useEffect(() => {
    const box = place.current;
    if (!box) return;
    const terminal = new Terminal({
      fontFamily: getComputedStyle(document.documentElement).getPropertyValue('--font-mono'),
      fontSize: 13,
      scrollback: 5_000,
      theme: colours(),
      minimumContrastRatio: 4.5,
      screenReaderMode: true,
    });
    screen.current = terminal;
    const fit = new FitAddon();
    terminal.loadAddon(fit);
    terminal.open(box);
    fit.fit();
    terminal.focus();
    const stream = new WebSocket(`${location.origin.replace(/^http/, 'ws')}${asked.stream}`);
    stream.binaryType = 'arraybuffer';
    let said = false;
    const end = (says: string) => {
      if (!said) told.current(says);
      said = true;
      terminal.options.disableStdin = true;
    };
    const tell = (value: unknown) => {
      if (stream.readyState === WebSocket.OPEN) stream.send(JSON.stringify(value));
    };
    const size = () => [terminal.cols, terminal.rows];
    stream.onopen = () => tell({ ticket: asked.ticket, size: size(), term: 'xterm-256color' });
    let waiting = 0;
    let left = 0;
    const show = (bytes: Uint8Array) => {
      if (waiting > waitingBytes) {
        left += bytes.length;
        return;
      }
      waiting += bytes.length;
      if (left) terminal.write(`\r\n[${left} bytes came faster than they can be shown]\r\n`);
      left = 0;
      terminal.write(bytes, () => {
        waiting -= bytes.length;
      });
    };
    stream.onmessage = ({ data }: MessageEvent<string | ArrayBuffer>) => {
      if (typeof data !== 'string') return show(new Uint8Array(data, 1));
      const { ended } = JSON.parse(data) as { ended?: { why: string; exit: number | null; says: string | null } };
      if (ended)
        end(
          ended.says ?? (ended.why === 'exit' ? `It has ended with exit ${ended.exit}.` : (reasons[ended.why] ?? '')),
        );
    };
    stream.onclose = () => end(reasons.lost as string);
    const encoder = new TextEncoder();
    const send = (bytes: Uint8Array) => {
      for (let at = 0; at < bytes.length && stream.readyState === WebSocket.OPEN; at += messageBytes) {
        const piece = bytes.subarray(at, at + messageBytes);
        const message = new Uint8Array(piece.length + 1);
        message[0] = channels.input;
        message.set(piece, 1);
        stream.send(message);
      }
    };
    terminal.onData((text) => send(encoder.encode(text)));
    terminal.onBinary((text) => send(Uint8Array.from(text, (letter) => letter.charCodeAt(0))));
    terminal.onResize(() => tell({ size: size() }));
    const watching = new ResizeObserver(() => fit.fit());
    watching.observe(box);
    return () => {
      watching.disconnect();
      said = true;
      stream.close();
      terminal.dispose();
    };
  }, [asked]);
  return <div ref={place} className="h-[26rem] border-t border-line bg-sheet px-4 py-2" />;
}

/** As the page's own theme has them. */
function colours() {
  const style = getComputedStyle(document.documentElement);
  const of = (name: string) => style.getPropertyValue(`--${name}`).trim();
  return {
    background: of('sheet'),
    foreground: of('ink'),
    cursor: of('indigo'),
    selectionBackground: of('indigo-wash'),
    black: of('ink'),
    red: of('vermilion'),
    green: of('moss'),
    yellow: of('ochre'),
    blue: of('indigo'),
    magenta: of('vermilion'),
    cyan: of('indigo'),
    white: of('second'),
    brightBlack: of('second'),
    brightRed: of('vermilion'),
    brightGreen: of('moss'),
    brightYellow: of('ochre'),
    brightBlue: of('indigo'),
    brightMagenta: of('vermilion'),
    brightCyan: of('indigo'),
    brightWhite: of('ink'),
  };
}
