/** Variables and secrets of a project: what is set where, what is wanted, one by one or a whole dotenv text. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import type {
  VariableChangeBody,
  VariableChanges,
  Variables as All,
} from '../../../../src/wire/environments/variables';
import { get, paths, post } from '../../data/api';
import { Ago, Button, Trouble } from '../../parts/basics';
import { Check, fieldLook, smallFieldLook, Choice } from '../../parts/fields';

/** `within`: those that count in this environment alone, which is offered first. */
export function Variables({ project, within = null }: { project: string; within?: string | null }) {
  const path = `${paths.project(project)}/variables`;
  const all = useQuery({ queryKey: ['variables', project], queryFn: () => get<All>(path) });
  const client = useQueryClient();
  const [environment, setEnvironment] = useState(within ?? '');
  const [pasting, setPasting] = useState(false);
  const change = useMutation({
    mutationFn: (body: VariableChangeBody) => post<VariableChanges>(path, body),
    onSuccess: () => client.invalidateQueries(),
  });
  const scope = environment || null;
  const items = (all.data?.items ?? []).filter((one) => within === null || counts(one, within, all.data?.items ?? []));
  const missing = (all.data?.wanted ?? []).flatMap((one) => {
    const where = one.missing.filter((name) => within === null || name === within);
    return where.length ? [{ ...one, missing: where }] : [];
  });
  return (
    <section className="card overflow-x-auto" aria-label="Variables">
      <header className="flex flex-wrap items-center gap-2.5 border-b border-faint px-4 py-2.5">
        <h2 className="text-[15px] font-semibold">Variables</h2>
        <span className="text-second">take effect with the next deployment</span>
        <span className="ml-auto flex items-center gap-2">
          <Choice
            label="For"
            value={environment}
            set={setEnvironment}
            options={[
              { value: '', text: 'for the whole project' },
              ...(all.data?.environments ?? [])
                .filter((name) => within === null || name === within)
                .map((name) => ({ value: name, text: `for ${name}` })),
            ]}
          />
          <Button size="small" aria-pressed={pasting} onClick={() => setPasting(!pasting)}>
            Paste a .env
          </Button>
        </span>
      </header>
      {missing.map((one) => (
        <p key={one.name} className="border-b border-faint bg-ochre-wash px-4 py-1.5">
          <span className="code font-semibold">{one.name}</span> is required but not set in {one.missing.join(', ')}
          {one.about ? <span className="text-second">: {one.about}</span> : null}
        </p>
      ))}
      {pasting ? (
        <Paste path={path} environment={scope} done={() => setPasting(false)} />
      ) : (
        <SetOne busy={change.isPending} set={(one) => change.mutate({ environment: scope, set: [one] })} />
      )}
      {change.error ? (
        <div className="p-3">
          <Trouble error={change.error} />
        </div>
      ) : null}
      {items.length ? (
        <table className="w-full border-collapse text-left">
          <tbody>
            {items.map((one) => (
              <tr key={`${one.environment} ${one.name}`} className="border-b border-faint last:border-0">
                <td className="code px-4 py-1.5 font-semibold">{one.name}</td>
                <td className="px-2 py-1.5 whitespace-nowrap text-second">{one.environment ?? 'the project'}</td>
                <td className="code max-w-56 truncate px-2 py-1.5">
                  {one.secret ? <span className="font-sans text-second">secret, not shown</span> : one.value}
                </td>
                <td className="px-2 py-1.5 whitespace-nowrap text-second">
                  <Ago at={one.at} /> by {one.by}
                </td>
                <td className="px-4 py-1 text-right">
                  <Button
                    size="tiny"
                    aria-label={`Remove ${one.name}`}
                    onClick={() => change.mutate({ environment: one.environment, remove: [one.name] })}
                  >
                    Remove
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : all.data ? (
        <p className="px-4 py-2.5 text-second">None is set: programs have what their definition says.</p>
      ) : null}
    </section>
  );
}

/** One of the environment's own counts, and one of the project's where the environment has none of that name. */
const counts = (one: All['items'][number], within: string, all: All['items']): boolean =>
  one.environment === within ||
  (one.environment === null && !all.some((other) => other.environment === within && other.name === one.name));

function SetOne({
  busy,
  set,
}: {
  busy: boolean;
  set: (one: { name: string; value: string; secret: boolean }) => void;
}) {
  const [name, setName] = useState('');
  const [value, setValue] = useState('');
  const [secret, setSecret] = useState(false);
  return (
    <form
      className="flex flex-wrap items-center gap-2 border-b border-faint px-4 py-2"
      onSubmit={(event) => {
        event.preventDefault();
        set({ name: name.trim(), value, secret });
        setName('');
        setValue('');
      }}
    >
      <input
        aria-label="Name"
        placeholder="NAME"
        value={name}
        onChange={(event) => setName(event.target.value)}
        className={`code w-44 ${smallFieldLook}`}
      />
      <input
        aria-label="Value"
        placeholder="value"
        type={secret ? 'password' : 'text'}
        autoComplete="off"
        value={value}
        onChange={(event) => setValue(event.target.value)}
        className={`code min-w-40 flex-1 ${smallFieldLook}`}
      />
      <Check label="secret" checked={secret} set={setSecret} />
      <Button type="submit" size="small" disabled={busy || name.trim() === ''}>
        Set
      </Button>
    </form>
  );
}

/** A dotenv text: what it would change is shown before it is set. */
function Paste({ path, environment, done }: { path: string; environment: string | null; done: () => void }) {
  const [text, setText] = useState('');
  const client = useQueryClient();
  const look = useMutation({ mutationFn: () => post<VariableChanges>(`${path}/preview`, { environment, text }) });
  const set = useMutation({
    mutationFn: () => post<VariableChanges>(path, { environment, text }),
    onSuccess: async () => {
      await client.invalidateQueries();
      done();
    },
  });
  const broken = look.data?.issues.some((one) => one.severity === 'error') ?? false;
  return (
    <div className="flex flex-col gap-2 border-b border-faint px-4 py-3">
      <textarea
        aria-label="A dotenv text"
        rows={6}
        spellCheck={false}
        placeholder={'LOG_LEVEL=info\nAPI_KEY="…"'}
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          look.reset();
        }}
        className={`code ${fieldLook}`}
      />
      {look.error || set.error ? <Trouble error={look.error ?? set.error} /> : null}
      {look.data ? (
        <ul aria-label="What changes">
          {look.data.issues.map((one) => (
            <li key={`${one.line} ${one.code}`} className={one.severity === 'error' ? 'text-vermilion' : 'text-ochre'}>
              line {one.line}: {one.says} {one.next}
            </li>
          ))}
          {look.data.changes.map((one) => (
            <li key={one.name}>
              <span className="code font-semibold">{one.name}</span> {one.what}
              {one.secret ? <span className="text-second">, a secret</span> : null}
            </li>
          ))}
        </ul>
      ) : null}
      <span className="flex gap-2">
        {look.data && !broken ? (
          <Button
            kind="main"
            disabled={set.isPending || look.data.changes.every((one) => one.what === 'same')}
            onClick={() => set.mutate()}
          >
            Save
          </Button>
        ) : (
          <Button disabled={text.trim() === '' || look.isPending} onClick={() => look.mutate()}>
            See what changes
          </Button>
        )}
        <Button onClick={done}>Cancel</Button>
      </span>
    </div>
  );
}
