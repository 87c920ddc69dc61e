/** What the events of a webhook are signed with: shown once. */
import { Button } from '../../parts/basics';

export function Secret({ text }: { text: string }) {
  return (
    <div className="w-fit rounded-md border border-indigo bg-indigo-wash px-3 py-2">
      <p>Its events are signed with this; it is shown this once:</p>
      <p className="code my-1 break-all select-all">{text}</p>
      <Button size="tiny" onClick={() => void navigator.clipboard.writeText(text)}>
        Copy
      </Button>
    </div>
  );
}
