/** Evidence in words. */
import { durationText } from '../durations.js';

/** What a piece of evidence says, in words. */
export function evidenceText({ kind, detail }: { kind: string; detail: Record<string, unknown> }): string {
  const tests = detail.tests as { passed: number; failed: number } | null | undefined;
  switch (kind) {
    case 'task':
      return tests ? `${detail.state}, ${tests.passed} of ${tests.passed + tests.failed} tests` : String(detail.state);
    case 'verification':
      return 'verified there';
    case 'health':
      return `in good health for ${durationText(Date.parse(String(detail.to)) - Date.parse(String(detail.from)))}`;
    case 'approval':
      return detail.author ? 'approved by one of its authors' : 'approved';
    case 'comparison':
      return `beside ${detail.beside} under the same traffic`;
    case 'import':
      return `made and tested elsewhere, ${(detail.evidence as unknown[] | undefined)?.length ?? 0} pieces of evidence there`;
    default:
      return '';
  }
}
