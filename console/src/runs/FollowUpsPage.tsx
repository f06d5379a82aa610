import { useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { SelectAll, SelectOne, useSelection } from '../parts/Selection';
import { Status } from '../parts/Status';
import { date, many, time } from '../parts/words';
import { FollowUpActions, ScriptWords } from './FollowUps';

const keyOf = (row: Schemas['FollowUpRow']) => `${row.run}/${row.followUp.name}`;

/** All that is left to do on machines after their upgrade. */
export function FollowUpsPage() {
  const [params] = useSearchParams();
  const isOverdue = params.has('overdue');
  const isClosed = params.has('closed');
  const owner = params.get('owner');
  const selection = useSelection();
  const all = useQuery({
    queryKey: ['follow-ups'],
    queryFn: () => take(api.GET('/api/v1/follow-ups', { params: { query: { limit: 1000 } } })),
    refetchInterval: 15_000,
  });
  const closed = useQuery({
    queryKey: ['follow-ups', 'closed'],
    enabled: isClosed,
    queryFn: () => take(api.GET('/api/v1/follow-ups', { params: { query: { closed: true, limit: 1000 } } })),
  });
  if (failed(all)) return <Problem of={all.error} />;
  if (!all.data) return <Loading />;
  const items = all.data.items;
  const overdue = items.filter((row) => row.followUp.overdue);
  const owners = [...new Set(items.map((row) => row.followUp.owner ?? ''))].sort();
  const shown = isOverdue ? overdue : owner === null ? items : items.filter((row) => (row.followUp.owner ?? '') === owner);
  const picked = isClosed ? [] : shown.filter((row) => selection.has(keyOf(row)));
  return (
    <>
      <h1>
        <b>{all.data.total}</b> {all.data.total === 1 ? 'follow-up' : 'follow-ups'} open
        {overdue.length > 0 && (
          <>
            , <b>{overdue.length}</b> overdue
          </>
        )}
      </h1>
      <p className="under">What is left to do on upgraded machines. A run is done once all of its follow-ups are closed.</p>
      <p className="targets">
        <Link to="/follow-ups" className={!isOverdue && !isClosed && owner === null ? 'here' : ''}>
          all {all.data.total}
        </Link>
        {(overdue.length > 0 || isOverdue) && (
          <Link to="/follow-ups?overdue" className={isOverdue ? 'here' : ''}>
            {overdue.length} overdue
          </Link>
        )}
        {owners.length > 1 &&
          owners.map((name) => (
            <Link key={name} to={`/follow-ups?owner=${encodeURIComponent(name)}`} className={owner === name ? 'here' : ''}>
              {name === '' ? 'for nobody yet' : `for ${name}`}
            </Link>
          ))}
        <Link to="/follow-ups?closed" className={isClosed ? 'here' : ''}>
          closed
        </Link>
      </p>
      {picked.length > 0 && (
        <p className="targets picked">
          {many(picked.length, 'follow-up')} selected:{' '}
          <FollowUpActions
            of={picked}
            title={picked.length === 1 ? (picked[0]?.followUp.title ?? '') : many(picked.length, 'follow-up')}
            onDone={selection.clear}
          />
        </p>
      )}
      {isClosed ? (
        <ClosedFollowUps of={closed.data?.items ?? []} />
      ) : (
        <section className="card">
          {shown.length === 0 && <p className="empty">Nothing is left to do here.</p>}
          {shown.length > 0 && (
            <table>
              <thead>
                <tr>
                  <th>
                    <SelectAll of={shown.map(keyOf)} in={selection} />
                  </th>
                  <th>Machine</th>
                  <th>Site</th>
                  <th>Run</th>
                  <th>What</th>
                  <th>Who</th>
                  <th>Due</th>
                </tr>
              </thead>
              <tbody>
                {shown.map((row) => (
                  <tr key={keyOf(row)}>
                    <td>
                      <SelectOne of={keyOf(row)} label={`Select ${row.followUp.title} on ${row.machine}`} in={selection} />
                    </td>
                    <td className="nowrap">
                      <MachineLink name={row.machine} />
                    </td>
                    <td className="nowrap">{row.site}</td>
                    <td className="nowrap">
                      <Link to={`/runs/${row.run}`}>{row.run}</Link> <Status of={row.status} />
                    </td>
                    <td>
                      {row.followUp.title}
                      <div className="quiet">
                        {row.followUp.addedBy
                          ? `added by ${row.followUp.addedBy}, ${time(row.followUp.opened)}`
                          : `found: ${row.followUp.seen}. ${row.followUp.fix}`}
                        <ScriptWords of={row.followUp.script} />
                      </div>
                    </td>
                    <td className="nowrap">{row.followUp.owner ?? <span className="quiet">nobody yet</span>}</td>
                    <td className="nowrap">
                      {row.followUp.due && (
                        <span className={row.followUp.overdue ? 'held' : undefined}>
                          {date(row.followUp.due)}
                          {row.followUp.overdue && ', overdue'}
                        </span>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </section>
      )}
    </>
  );
}

/** What was left to do and is done, the last of it first. */
function ClosedFollowUps({ of }: { of: Schemas['FollowUpRow'][] }) {
  if (of.length === 0) return <p className="empty">None was closed yet.</p>;
  return (
    <section className="card">
      <table>
        <thead>
          <tr>
            <th>Machine</th>
            <th>Site</th>
            <th>Run</th>
            <th>What</th>
            <th>What was done</th>
            <th>Closed</th>
          </tr>
        </thead>
        <tbody>
          {of.map((row) => (
            <tr key={`${keyOf(row)} ${row.followUp.closed}`}>
              <td className="nowrap">
                <MachineLink name={row.machine} />
              </td>
              <td className="nowrap">{row.site}</td>
              <td className="nowrap">
                <Link to={`/runs/${row.run}`}>{row.run}</Link>
              </td>
              <td>{row.followUp.title}</td>
              <td>{row.followUp.because}</td>
              <td className="nowrap">
                {time(row.followUp.closed)} <span className="quiet">by {row.followUp.by}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
