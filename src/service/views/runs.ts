/** Runs as the API gives them. */
import { issue } from '../../core/errors/errors.js';
import { listAgents } from '../../records/callers/agents.js';
import { attemptsOfRun, commandsOf } from '../../records/runs/attempts.js';
import type { Db } from '../../records/database.js';
import { definitionOf, type ProjectRow } from '../../records/projects/projects.js';
import { expectedTimes, runsOfAttempts } from '../../records/views/history.js';
import { type RunOverview, runOverview } from '../../records/views/overview.js';
import { type RunRow, tasksOf } from '../../records/runs/runs.js';
import type { Run, RunDetail } from '../../wire/runs.js';
import type { Said } from '../../wire/parts.js';
import { iso, said } from './basics.js';

/** Milliseconds for which an agent may be away before what was planned for it is said to wait for nobody. */
const baseGoneMs = 60_000;

export function runView(row: RunOverview): Run {
  return {
    project: row.project,
    number: row.number,
    state: row.state,
    commit: {
      id: row.commit,
      title: row.title,
      author: row.author,
      at: (row.committed_at ?? new Date(0)).toISOString(),
    },
    branch: row.branch,
    pullRequest: row.pull_request,
    cause: row.cause,
    actor: row.actor,
    allowed: row.allowed,
    issue: said(row.issue),
    tasks: { total: row.tasks_total, ended: row.tasks_ended },
    release: row.release,
    createdAt: row.created_at.toISOString(),
    startedAt: iso(row.started_at),
    endedAt: iso(row.ended_at),
    expectedMs: row.expected_ms === null ? null : Math.round(row.expected_ms),
  };
}

/** A run right after a change of it. */
export async function runViewOf(db: Db, id: string): Promise<Run> {
  return runView((await runOverview(db, id)) as RunOverview);
}

export async function runDetail(db: Db, project: ProjectRow, row: RunRow): Promise<RunDetail> {
  // The run first, its tasks next: what is read later is at least as new, so that a run that has ended has no task that goes on, and a
  // task that runs has its attempt.
  const view = await runViewOf(db, row.id);
  const tasks = await tasksOf(db, row.id);
  const [attempts, definition, agents] = await Promise.all([
    attemptsOfRun(db, row.id),
    definitionOf(db, project.id, row.commit),
    listAgents(db),
  ]);
  const commands = await commandsOf(
    db,
    attempts.map((one) => one.id),
  );
  const expected = await expectedTimes(
    db,
    project.id,
    tasks.map((one) => one.name),
  );
  const sources = await runsOfAttempts(
    db,
    tasks.flatMap((task) => (task.state === 'reused' && task.attempt_id ? [task.attempt_id] : [])),
  );
  const agentNames = new Map(agents.map((agent) => [agent.id, agent.name]));
  const takers = agents.filter(
    (agent) => agent.alive && agent.takes.includes(row.line === 'own' ? 'runs' : 'untrusted'),
  );
  const held =
    tasks.some((task) => task.state === 'ready') &&
    takers.length > 0 &&
    takers.every((agent) => agent.full_issue !== null);
  // One that was there a moment ago may only be starting again.
  const lately = Date.now() - baseGoneMs;
  const bases = new Set(
    agents.filter((agent) => agent.alive || agent.seen_at.getTime() > lately).map((agent) => agent.base),
  );
  const gone = tasks.some((task) => task.state === 'ready' && task.pinned.base && !bases.has(task.pinned.base));
  return {
    ...view,
    waits: held ? said(takers[0]?.full_issue ?? null) : gone ? said(issue('base_gone', { run: row.number })) : null,
    trimmedAt: iso(row.trimmed_at),
    warnings: row.warnings.map((one) => said(one) as Said),
    definitionIssues: (definition?.issues ?? []).map((one) => ({
      ...(said(one) as Said),
      line: one.line,
      column: one.column,
    })),
    taskList: tasks.map((task) => ({
      name: task.name,
      state: task.state,
      evidence: task.evidence,
      needs: task.model.needs,
      issue: said(task.issue),
      fingerprint: task.fingerprint,
      flaky: task.flaky,
      covers: task.model.coverage !== null,
      shard: task.model.shard,
      reusedFrom: task.state === 'reused' ? (sources.get(task.attempt_id ?? '') ?? null) : null,
      output: task.output ? { digest: task.output, size: task.output_size ?? 0 } : null,
      tests: task.tests,
      files: task.files.count,
      startedAt: iso(task.started_at),
      endedAt: iso(task.ended_at),
      expectedMs: expected.get(task.name) ?? null,
      attempts: attempts
        .filter((one) => one.task_id === task.id || one.id === task.attempt_id)
        .map((one) => ({
          id: one.id,
          number: one.number,
          state: one.state,
          issue: said(one.issue),
          agent: agentNames.get(one.agent_id ?? '') ?? null,
          startedAt: iso(one.started_at),
          endedAt: iso(one.ended_at),
          logLines: one.log_lines,
          commands: commands
            .filter((command) => command.attempt_id === one.id)
            .map((command) => ({
              text: command.text,
              state: command.state,
              exit: command.exit,
              ms: command.ms,
              startedAt: command.started_at.toISOString(),
              firstLine: command.first_line,
            })),
        })),
    })),
  };
}
