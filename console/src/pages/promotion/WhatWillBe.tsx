/** A last look before a deployment: what will be there, and what it costs. */
import { useQuery } from '@tanstack/react-query';
import { costText, countText } from '../../../../src/core/ahead';
import { bytesText } from '../../../../src/core/sizes';
import type { LastLook } from '../../../../src/wire/environments/environments';
import { get, paths } from '../../data/api';
import { Chip } from '../../parts/Mark';

export function WhatWillBe({
  project,
  environment,
  release,
}: {
  project: string;
  environment: string;
  release: number;
}) {
  const look = useQuery({
    queryKey: ['promotion', project, environment, 'look', release],
    queryFn: () => get<LastLook>(`${paths.environment(project, environment)}/look?release=${release}`),
  });
  const one = look.data;
  if (!one) return null;
  const cost = costText(one);
  return (
    <section className="card mt-3.5 px-5 py-3.5" aria-label="What will be there">
      <h2 className="mb-1 font-semibold">What will be there</h2>
      <ul>
        {one.parts.map((part) => (
          <li key={part.name} className="flex flex-wrap gap-x-3 border-b border-faint py-1.5 last:border-0">
            <span className="font-semibold">{part.name}</span>
            <span className="text-second">{part.kind}</span>
            {part.size ? (
              <span className="ml-auto text-second">
                {countText(part.size)} × {part.size.memory === null ? 'what agents give' : bytesText(part.size.memory)}
                {part.size.cpu === null ? '' : `, ${part.size.cpu} cores`}
              </span>
            ) : null}
          </li>
        ))}
        {one.resources.map((item) => (
          <li
            key={item.name}
            className="flex flex-wrap items-center gap-x-3 border-b border-faint py-1.5 last:border-0"
          >
            <span className="font-semibold">{item.name}</span>
            <span className="text-second">{item.kind}</span>
            <span className="ml-auto">
              {item.there ? <span className="text-second">there, and kept</span> : <Chip tone="running">is made</Chip>}
            </span>
          </li>
        ))}
      </ul>
      {one.prepare ? (
        <p className="mt-1 text-second">
          Before: <span className="code">{one.prepare}</span>
        </p>
      ) : null}
      {one.unset.length ? (
        <p className="mt-1 text-vermilion">It would be refused: nobody has set {one.unset.join(', ')}.</p>
      ) : null}
      {cost ? <p className="mt-1 text-second">{cost}</p> : null}
    </section>
  );
}
