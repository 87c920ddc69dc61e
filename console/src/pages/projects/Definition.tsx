/** A definition being written: the text, and beside each line why it stands there or what is wrong with it. */
import { useQuery } from '@tanstack/react-query';
import type { DefinitionIssueView } from '../../../../src/wire/guide';
import { post } from '../../data/api';

export function DefinitionEditor({
  text,
  set,
  reasons,
}: {
  text: string;
  set: (text: string) => void;
  reasons: ReadonlyMap<string, string>;
}) {
  const lines = text.split('\n');
  const check = useQuery({
    queryKey: ['check', text],
    queryFn: () => post<{ issues: DefinitionIssueView[] }>('/api/definitions/check', { text }),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const issues = new Map<number, DefinitionIssueView>();
  for (const one of check.data?.issues ?? []) if (!issues.has(one.line)) issues.set(one.line, one);
  return (
    <div className="code grid max-h-[26rem] grid-cols-[minmax(20rem,3fr)_2fr] overflow-auto rounded-md border border-line bg-paper leading-[1.5]">
      <textarea
        aria-label="Definition"
        aria-invalid={issues.size > 0}
        spellCheck={false}
        value={text}
        rows={lines.length}
        onChange={(event) => set(event.target.value)}
        className="resize-none overflow-x-auto border-r border-faint bg-sheet px-3 py-2 leading-[1.5] whitespace-pre"
      />
      <ol className="py-2" aria-label="Why each line stands there">
        {lines.map((line, at) => {
          const wrong = issues.get(at + 1);
          return (
            <li
              key={at}
              className={`h-[1.5em] truncate px-3 font-sans ${wrong ? (wrong.severity === 'error' ? 'font-semibold text-vermilion' : 'text-ochre') : 'text-second'}`}
              title={wrong ? `${wrong.says} ${wrong.next}` : undefined}
            >
              {wrong ? `${wrong.says} ${wrong.next}` : (reasons.get(line) ?? '')}
            </li>
          );
        })}
      </ol>
    </div>
  );
}
