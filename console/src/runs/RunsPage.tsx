import { useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { RunProgress, ToGo } from '../parts/RunProgress';
import { Status, statuses } from '../parts/Status';
import { many, span, word } from '../parts/words';

export function RunsPage() {
  const [params] = useSearchParams();
  const status = params.get('status') ?? undefined;
  const all = useQuery({
    queryKey: ['runs'],
    queryFn: () => take(api.GET('/api/v1/runs', { params: { query: { limit: 1000 } } })),
    refetchInterval: 5000,
  });
  if (failed(all)) return <Problem of={all.error} />;
  if (!all.data) return <Loading />;
  const counts = new Map<string, number>();
  for (const run of all.data.items) counts.set(run.status, (counts.get(run.status) ?? 0) + 1);
  const parked = counts.get('parked') ?? 0;
  const shown = all.data.items.filter((run) => status === undefined || run.status === status);
  return (
    <>
      <h1>
        <b>{counts.get('running') ?? 0}</b> running, <b>{parked}</b> parked
        {parked > 0 && <>: waiting for a decision</>}
      </h1>
      <p className="targets">
        <Link to="/runs" className={status === undefined ? 'here' : ''}>
          all {all.data.total}
        </Link>
        {statuses
          .filter(([name]) => counts.has(name))
          .map(([name]) => (
            <Link key={name} to={`/runs?status=${name}`} className={status === name ? 'here' : ''}>
              {counts.get(name)} <Status of={name} />
            </Link>
          ))}
      </p>
      <section className="card">
        {shown.length === 0 && <p className="empty">No runs with this status. A run is opened before its machine is staged.</p>}
        {shown.length > 0 && (
          <table>
            <thead>
              <tr>
                <th>Run</th>
                <th>Machine</th>
                <th>Site</th>
                <th>Status</th>
                <th>Progress</th>
                <th>What</th>
                <th className="num">for</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {shown.map((run) => (
                <tr key={run.run}>
                  <td>
                    <Link to={`/runs/${run.run}`}>{run.run}</Link>
                  </td>
                  <td className="nowrap">
                    <Link to={`/machines/${encodeURIComponent(run.machine)}`}>
                      <code>{run.machine}</code>
                    </Link>
                  </td>
                  <td className="nowrap">{run.site}</td>
                  <td className="nowrap">
                    <Status of={run.status} />
                  </td>
                  <td>
                    <RunProgress run={run} />
                  </td>
                  <td>{run.parked ?? run.reason ?? run.noContact?.why ?? run.step ?? word(run.outcome)}</td>
                  <td className="num nowrap quiet">{span(run.elapsedSeconds)}</td>
                  <td className="nowrap quiet">{run.followUps > 0 ? many(run.followUps, 'follow-up') : <ToGo run={run} />}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </section>
    </>
  );
}
