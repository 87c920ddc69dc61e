/** What a list is narrowed to, and an address keeps: a project, and something that is typed whole before it is asked for. */
import { useQuery } from '@tanstack/react-query';
import type { PageOf } from '../../../src/wire/parts';
import type { Project } from '../../../src/wire/projects';
import { get } from '../data/api';
import { Choice } from './fields';

/** One of the projects, or all of them: `''`. A name that no project has any more is one of them while it is chosen. */
export function ProjectChoice({ project, set }: { project: string; set(project: string): void }) {
  const projects = useQuery({ queryKey: ['projects'], queryFn: () => get<PageOf<Project>>('/api/projects') });
  const names = new Set([...(projects.data?.items.map((one) => one.name) ?? []), ...(project ? [project] : [])]);
  return (
    <Choice
      label="Project"
      value={project}
      set={set}
      options={[{ value: '', text: 'all projects' }, ...[...names].map((name) => ({ value: name, text: name }))]}
    />
  );
}

/** Takes what is typed when the field is left, or by Enter. Give it a `key` of the value, so that it shows another one. */
export function Typed({ label, value, set }: { label: string; value: string; set(text: string): void }) {
  const take = (text: string) => text.trim() !== value && set(text.trim());
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        take(String(new FormData(event.currentTarget).get('typed')));
      }}
    >
      <input
        name="typed"
        aria-label={label}
        placeholder={label.toLowerCase()}
        defaultValue={value}
        onBlur={(event) => take(event.target.value)}
        className="w-32 rounded-md border border-line bg-sheet px-2.5 py-1"
      />
    </form>
  );
}
