/** The parts of what is live: where they are reached, how many run, how large they may be. */
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { parseSize, sizeSource } from '../../../../src/core/sizes';
import type { EnvironmentDetail, ScaleBody } from '../../../../src/wire/environments/environments';
import { paths, post } from '../../data/api';
import { Button, Trouble } from '../../parts/basics';
import { smallFieldLook } from '../../parts/fields';
import { Chip } from '../../parts/Mark';

type Part = EnvironmentDetail['parts'][number];

export function Parts({ one }: { one: EnvironmentDetail }) {
  const [scaling, setScaling] = useState<string | null>(null);
  return (
    <section className="card h-fit px-5 py-3.5" aria-label="Parts">
      <h2 className="mb-1 font-semibold">Parts</h2>
      {one.parts.length === 0 ? <p className="text-second">Nothing is live here yet.</p> : null}
      {one.parts.map((part) => (
        <div key={part.name} className="border-b border-faint py-2 last:border-0">
          <div className="flex flex-wrap items-baseline gap-x-3">
            <span className="font-semibold">{part.name}</span>
            <span className="text-second">{part.kind}</span>
            <span className="code text-second">{part.at}</span>
            {part.size ? <Filled one={one} part={part} /> : null}
            <span className="ml-auto text-second">{part.size ? sizeText(part.size) : null}</span>
            {part.size && one.live ? (
              <Button
                size="tiny"
                aria-pressed={scaling === part.name}
                onClick={() => setScaling(scaling === part.name ? null : part.name)}
              >
                Scale
              </Button>
            ) : (
              <span className="code text-second">{part.digest.slice(7, 19)}</span>
            )}
          </div>
          {scaling === part.name ? <Scale one={one} part={part} done={() => setScaling(null)} /> : null}
        </div>
      ))}
    </section>
  );
}

function Filled({ one, part }: { one: EnvironmentDetail; part: Part }) {
  const serving = (one.serving ?? one.live)?.number;
  const places = one.instanceList.filter(
    (item) => item.part === part.name && item.deployment === serving && item.state === 'ready' && item.wanted,
  );
  if (one.review && (one.state === 'asleep' || one.state === 'falling asleep')) return <Chip tone="">asleep</Chip>;
  const ready = new Set(places.map((item) => item.position)).size;
  const wanted = part.size?.instances ?? 0;
  return (
    <Chip tone={ready >= wanted ? 'good' : ready === 0 ? 'down' : 'poor'}>
      {ready} of {wanted} ready
    </Chip>
  );
}

const sizeText = ({ memory, cpu, set, auto }: NonNullable<Part['size']>): string =>
  [
    ...(auto ? [`${auto.min} to ${auto.max} at ${Math.round(auto.cpu * 100)} % processor`] : []),
    ...(memory === null ? [] : [sizeSource(memory)]),
    ...(cpu === null ? [] : [`${cpu} ${cpu === 1 ? 'core' : 'cores'}`]),
    ...(set ? ['set by hand'] : []),
  ].join(' · ');

function Scale({ one, part, done }: { one: EnvironmentDetail; part: Part; done: () => void }) {
  const client = useQueryClient();
  const [instances, setInstances] = useState(String(part.size?.instances ?? 1));
  const [memory, setMemory] = useState(part.size?.memory ? sizeSource(part.size.memory) : '');
  const [cpu, setCpu] = useState(part.size?.cpu ? String(part.size.cpu) : '');
  const act = useMutation({
    mutationFn: (body: ScaleBody) => post(`${paths.environment(one.project, one.name)}/scale`, body),
    onSuccess: async () => {
      done();
      await client.invalidateQueries({ queryKey: ['environment'] });
    },
  });
  const bytes = memory === '' ? undefined : parseSize(memory);
  const wrong = !/^\d{1,3}$/.test(instances) || bytes === null || (cpu !== '' && !(Number(cpu) > 0));
  const field = (label: string, value: string, set: (text: string) => void, hint: string) => (
    <label className="flex items-center gap-1.5 text-second">
      {label}
      <input
        value={value}
        placeholder={hint}
        onChange={(event) => set(event.target.value)}
        className={`code w-20 text-ink ${smallFieldLook}`}
      />
    </label>
  );
  return (
    <form
      className="mt-2 flex flex-wrap items-center gap-x-4 gap-y-2"
      onSubmit={(event) => {
        event.preventDefault();
        act.mutate({
          part: part.name,
          instances: Number(instances),
          ...(bytes ? { memory: bytes } : {}),
          ...(cpu === '' ? {} : { cpu: Number(cpu) }),
        });
      }}
    >
      {field('instances', instances, setInstances, '2')}
      {field('memory each', memory, setMemory, '512M')}
      {field('cores each', cpu, setCpu, 'all')}
      <span className="ml-auto flex gap-2">
        {part.size?.set ? (
          <Button size="tiny" disabled={act.isPending} onClick={() => act.mutate({ part: part.name, reset: true })}>
            As the definition says
          </Button>
        ) : null}
        <Button type="submit" size="tiny" kind="main" disabled={wrong || act.isPending}>
          Scale {part.name}
        </Button>
      </span>
      {act.error ? <Trouble error={act.error} /> : null}
    </form>
  );
}
