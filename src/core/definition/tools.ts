/** The tools that agents look for and offer, by the names that definitions use. */
export const toolNames = ['node', 'npm', 'python', 'java', 'maven', 'git', 'bash', 'gcc', 'make'] as const;
export type ToolName = (typeof toolNames)[number];
