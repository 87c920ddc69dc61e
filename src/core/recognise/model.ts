/** What is seen in a tree, and what is proposed for it. Nothing is run; files are looked at as text. */
import type { Issue } from '../errors/errors.js';

export interface Tree {
  /** Every file of the commit below the project's folder. */
  paths: readonly string[];
  /** The texts of those that `wantedTexts` names, as far as they are small and UTF-8. */
  texts: ReadonlyMap<string, string>;
}

/** A line of the proposed definition: its YAML, and why it stands there. */
export interface Line {
  text: string;
  why: string;
}

export interface TaskDraft {
  name: string;
  lines: Line[];
}

export interface PartDraft {
  name: string;
  kind: 'site' | 'server' | 'worker';
  lines: Line[];
  /** Path of the address. */
  at: string;
}

export interface VariableDraft {
  name: string;
  /** YAML behind the name. */
  text: string;
  why: string;
}

/** What can't be known from the tree; the likeliest answer stands first, and another one may be written. */
export interface Question {
  id: string;
  ask: string;
  answers: { value: string; why: string }[];
  /** What counts now: the given answer, or the likeliest. */
  answer: string;
  given: boolean;
}

/** What one look (at Node, Python, Java, pages) has found in one folder. */
export interface Findings {
  /** What is there, in words: `Node with npm`. */
  what: string;
  why: string;
  tools: { tool: string; range: string; why: string }[];
  tasks: TaskDraft[];
  parts: PartDraft[];
  variables: VariableDraft[];
  /** Databases of the release; left out: none. */
  resources?: VariableDraft[];
  /** Lines of `prepare`; null or left out: there is none. */
  prepare?: Line[] | null;
  questions: Question[];
  notes: Issue[];
}

export const nothing = (what: string, why: string): Findings => ({
  what,
  why,
  tools: [],
  tasks: [],
  parts: [],
  variables: [],
  questions: [],
  notes: [],
});

export interface Proposal {
  /** What was recognised, the largest part first. */
  found: { what: string; folder: string; why: string }[];
  /** A whole definition, valid as it stands. */
  text: string;
  /** Why each line stands there; lines count from 1. */
  reasons: { line: number; why: string }[];
  questions: Question[];
  /** What should be changed in the repository, or known. */
  notes: Issue[];
}

export type Answers = Readonly<Record<string, string>>;

/** A question with the answer that counts; a given one that does not fit does not. */
export function question(
  id: string,
  ask: string,
  answers: Question['answers'],
  given: Answers,
  fits: (text: string) => boolean = () => true,
): Question {
  const own = given[id]?.trim();
  const answer = own && fits(own) ? own : undefined;
  return { id, ask, answers, answer: answer ?? answers[0]?.value ?? '', given: answer !== undefined };
}

export const line = (text: string, why: string): Line => ({ text, why });
