/** What a rehearsal shows: a line for each task that ends, and on a terminal a line of what runs now. */
import { durationText } from '../../core/durations.js';
import type { Issue } from '../../core/errors/errors.js';
import { wording } from '../../core/errors/errors.js';
import { bold, faint, plain, state } from '../print.js';

export interface View {
  begins(task: string): void;
  prints(task: string, bytes: Buffer): void;
  ends(task: string, how: string, ms: number, why: Issue | null): void;
  close(): void;
}

/** Lines of a failed task's log that are shown. */
const shownLines = 30;

export function openView(total: number, all: boolean, write: (text: string) => void, terminal: boolean): View {
  const running = new Map<string, number>();
  const logs = new Map<string, string>();
  let ended = 0;
  let shown = false;
  const clear = () => {
    if (shown) write('\r\u001b[K');
    shown = false;
  };
  const draw = () => {
    if (!terminal || running.size === 0) return;
    clear();
    const text = [...running].map(([task, began]) => `${task} ${durationText(Date.now() - began)}`).join(', ');
    write(faint(`${ended} of ${total}, running: ${text}`.slice(0, Math.max(20, (process.stdout.columns ?? 80) - 1))));
    shown = true;
  };
  const timer = terminal ? setInterval(draw, 200) : null;
  const line = (text: string) => {
    clear();
    write(`${text}\n`);
  };
  return {
    begins(task) {
      running.set(task, Date.now());
      draw();
    },
    prints(task, bytes) {
      const text = (logs.get(task) ?? '') + bytes.toString('utf8');
      if (!all) return void logs.set(task, text.slice(-60_000));
      const lines = text.split('\n');
      logs.set(task, lines.pop() ?? '');
      for (const one of lines) line(`${faint(`${task} │`)} ${plain(one)}`);
    },
    ends(task, how, ms, why) {
      running.delete(task);
      ended++;
      const rest = logs.get(task) ?? '';
      if (all && rest) line(`${faint(`${task} │`)} ${plain(rest)}`);
      line(
        `${state(how).padEnd(8)} ${bold(task)}${how === 'reused' || how === 'skipped' ? '' : ` ${faint(durationText(ms))}`}`,
      );
      if (why) line(`         ${plain(wording(why).says)}`);
      if (how === 'failed' && !all)
        for (const one of rest.split('\n').filter(Boolean).slice(-shownLines)) line(`  ${faint('│')} ${plain(one)}`);
      logs.delete(task);
    },
    close() {
      if (timer) clearInterval(timer);
      clear();
    },
  };
}
