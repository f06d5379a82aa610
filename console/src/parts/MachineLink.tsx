import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take } from '../api/client';

/** What runs have suspended on machines and not resumed yet, by the machine's name. One call serves a whole page. */
function useSuspended(): ReadonlyMap<string, readonly string[]> | undefined {
  return useQuery({
    queryKey: ['suspended'],
    queryFn: () => take(api.GET('/api/v1/runs', { params: { query: { suspended: true, limit: 1000 } } })),
    select: (page) => new Map(page.items.map((run) => [run.machine, run.suspended] as const)),
    staleTime: 10_000,
  }).data;
}

/** A machine's name, which leads to its page; to another where that is said. Beside it what is suspended on it. */
export function MachineLink({ name, to }: { name: string; to?: string }) {
  return (
    <>
      <Link to={to ?? `/machines/${encodeURIComponent(name)}`} title={name}>
        <code>{name}</code>
      </Link>
      <SuspendedOn name={name} />
    </>
  );
}

/** What is suspended on a machine; nothing where nothing is. */
export function SuspendedOn({ name }: { name: string }) {
  const things = useSuspended()?.get(name);
  if (!things) return null;
  return (
    <Link className="suspended" to="/runs?suspended" title="A run has suspended it on this machine and has not resumed it yet.">
      {things.join(', ')} suspended
    </Link>
  );
}
