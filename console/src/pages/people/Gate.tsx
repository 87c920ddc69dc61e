/** On the way to a review that asks who looks: whoever is signed in here is led back to it. */
import { useSearch } from '@tanstack/react-router';
import { useEffect, useState } from 'react';
import type { GateWay } from '../../../../src/wire/environments/reviews';
import { post } from '../../data/api';
import type { Search } from '../../data/search';
import { Empty, Trouble } from '../../parts/basics';

/** A way back is good once: it is asked for once for each browser that set out, and not again when something has changed elsewhere. */
const asked = new Map<string, Promise<GateWay>>();

export function GatePage(): React.ReactNode {
  const { host = '', door = '', to = '/' } = useSearch({ strict: false }) as Search;
  const [error, setError] = useState<unknown>(null);
  useEffect(() => {
    if (asked.has(door)) return;
    const way = post<GateWay>('/api/gate', { host, door, to });
    asked.set(door, way);
    way.then(({ url }) => location.replace(url), setError);
  }, [host, door, to]);
  if (error) return <Trouble error={error} />;
  return <Empty title={`Opens ${host}`}>One moment: this page leads on by itself.</Empty>;
}
