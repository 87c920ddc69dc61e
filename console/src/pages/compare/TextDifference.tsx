/** A unified difference: what goes and what comes in their own colours, and with their own signs. */
export function TextDifference({ text }: { text: string }) {
  const lines = text.replace(/\n$/, '').split('\n');
  return (
    <pre className="code max-h-[28rem] overflow-auto rounded-md bg-faint px-3 py-2" tabIndex={0}>
      {lines.map((line, at) => (
        <span
          key={at}
          className={`block ${/^(\+\+\+|---|@@)/.test(line) ? 'text-second' : line.startsWith('+') ? 'text-moss' : line.startsWith('-') ? 'text-vermilion' : ''}`}
        >
          {line === '' ? ' ' : line}
        </span>
      ))}
    </pre>
  );
}
