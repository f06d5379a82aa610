import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';

const SETTLE = 700;

/** Refetches the queries that depend on what changed, at most every 0.7 s. */
export function useLive(): 'live' | 'away' {
  const queries = useQueryClient();
  const [state, setState] = useState<'live' | 'away'>('live');
  useEffect(() => {
    const source = new EventSource('/api/v1/events');
    let timer: number | undefined;
    const refresh = () => {
      timer ??= window.setTimeout(() => {
        timer = undefined;
        queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== 'fixed' });
      }, SETTLE);
    };
    source.addEventListener('change', refresh);
    source.onopen = () => setState('live');
    source.onerror = () => setState('away');
    return () => {
      source.close();
      window.clearTimeout(timer);
    };
  }, [queries]);
  return state;
}
