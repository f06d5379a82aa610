import { useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { RunProgress, ToGo } from '../parts/RunProgress';
import { SelectAll, SelectOne, useSelection } from '../parts/Selection';
import { Status, statuses } from '../parts/Status';
import { many, span, time, word } from '../parts/words';
import { AnswerButtons } from './AnswerButtons';

export function RunsPage() {
  const [params] = useSearchParams();
  const status = params.get('status') ?? undefined;
  const isAsked = params.has('asked');
  const isSuspended = params.has('suspended');
  const selection = useSelection();
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
  const asked = all.data.items.filter((run) => run.asked);
  const suspended = all.data.items.filter((run) => run.suspended.length > 0);
  const followUps = all.data.items.reduce((sum, run) => sum + run.followUps, 0);
  const shown = isAsked ? asked : isSuspended ? suspended : all.data.items.filter((run) => status === undefined || run.status === status);
  const picked = isAsked ? asked.filter((run) => selection.has(run.run)) : [];
  return (
    <>
      <h1>
        <b>{counts.get('running') ?? 0}</b> running, <b>{parked}</b> parked
        {parked > 0 && <>: waiting for a decision</>}
        {asked.length > 0 && (
          <>
            , <b>{asked.length}</b> waiting for an answer
          </>
        )}
      </h1>
      <p className="targets">
        <Link to="/runs" className={status === undefined && !isAsked && !isSuspended ? 'here' : ''}>
          all {all.data.total}
        </Link>
        {statuses
          .filter(([name]) => counts.has(name))
          .map(([name]) => (
            <Link key={name} to={`/runs?status=${name}`} className={status === name ? 'here' : ''}>
              {counts.get(name)} <Status of={name} />
            </Link>
          ))}
        {(asked.length > 0 || isAsked) && (
          <Link to="/runs?asked" className={isAsked ? 'here' : ''}>
            {asked.length} waiting for an answer
          </Link>
        )}
        {(suspended.length > 0 || isSuspended) && (
          <Link to="/runs?suspended" className={isSuspended ? 'here' : ''}>
            {suspended.length} with something suspended
          </Link>
        )}
        {followUps > 0 && <Link to="/follow-ups">{many(followUps, 'follow-up')} …</Link>}
      </p>
      {picked.length > 0 && (
        <p className="targets picked">
          {many(picked.length, 'machine')} selected: <AnswerButtons runs={picked} onAnswered={selection.clear} />
        </p>
      )}
      <section className="card">
        {isAsked && shown.length === 0 && <p className="empty">No run waits for an answer.</p>}
        {isSuspended && shown.length === 0 && <p className="empty">Nothing is suspended on any machine.</p>}
        {!isAsked && !isSuspended && shown.length === 0 && (
          <p className="empty">No runs with this status. A run is opened before its machine is staged.</p>
        )}
        {shown.length > 0 && (
          <table>
            <thead>
              <tr>
                {isAsked && (
                  <th>
                    <SelectAll of={shown.map((run) => run.run)} in={selection} />
                  </th>
                )}
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
                  {isAsked && (
                    <td>
                      <SelectOne of={run.run} label={`Select ${run.machine}`} in={selection} />
                    </td>
                  )}
                  <td>
                    <Link to={`/runs/${run.run}`}>{run.run}</Link>
                  </td>
                  <td className="nowrap">
                    <MachineLink name={run.machine} />
                  </td>
                  <td className="nowrap">{run.site}</td>
                  <td className="nowrap">
                    <Status of={run.status} />
                  </td>
                  <td>
                    <RunProgress run={run} />
                  </td>
                  <td>
                    {run.asked && !run.parked ? (
                      <>
                        {run.step}
                        <div className="quiet">
                          {run.asked.who}, needed by {time(run.asked.due)}
                        </div>
                      </>
                    ) : (
                      (run.parked ?? run.reason ?? run.noContact?.why ?? run.step ?? word(run.outcome))
                    )}
                  </td>
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
