/** What may take long, by name: computed from plain data alone, in a thread of its own (worker.ts) or right here. */
import { gunzipSync } from 'node:zlib';
import { checkAgainst } from '../../core/definition/check.js';
import type { Definition } from '../../core/definition/model.js';
import { parseDefinition } from '../../core/definition/parse.js';
import { type Batch, findLines } from '../../core/lines.js';
import type { Occasion } from '../../core/plan/expand.js';
import { type ListedFile, planRun } from '../../core/plan/plan.js';
import type { Answers } from '../../core/recognise/model.js';
import { recognise } from '../../core/recognise/recognise.js';

export const jobs = {
  definition: ({ text }: { text: string | Uint8Array }) => parseDefinition(text),
  plan: ({
    model,
    files,
    occasion,
    attributes,
  }: {
    model: Definition;
    files: ListedFile[];
    occasion: Occasion;
    attributes: string | null;
  }) => ({
    plan: planRun(model, files, occasion),
    warnings: checkAgainst(
      model,
      files.flatMap((file) => (file.path === null ? [] : [file.path])),
      attributes,
    ),
  }),
  recognise: ({ paths, texts, answers }: { paths: string[]; texts: Map<string, string>; answers: Answers }) =>
    recognise({ paths, texts }, answers),
  search: ({ chunks, ...batch }: Omit<Batch, 'chunks'> & { chunks: { firstLine: number; packed: Uint8Array }[] }) =>
    findLines({ ...batch, chunks: chunks.map(({ firstLine, packed }) => ({ firstLine, bytes: gunzipSync(packed) })) }),
} as const;

export type JobName = keyof typeof jobs;
export type JobInput<Name extends JobName> = Parameters<(typeof jobs)[Name]>[0];
export type JobOutput<Name extends JobName> = ReturnType<(typeof jobs)[Name]>;
