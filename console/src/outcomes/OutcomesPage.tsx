import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { Status, statuses } from '../parts/Status';
import { amount, bytes, word } from '../parts/words';
import { MemberActions } from '../plans/MemberActions';
import { PlanSwitcher, usePlan } from '../plans/usePlan';
import { Rollbacks } from './Rollbacks';

export function OutcomesPage() {
  const { plans, name } = usePlan();
  const outcomes = useQuery({
    queryKey: ['outcomes', name],
    queryFn: () => take(api.GET('/api/v1/outcomes/{name}', { params: { path: { name: name as string } } })),
    enabled: name !== undefined,
  });
  if (failed(plans)) return <Problem of={plans.error} />;
  if (failed(outcomes)) return <Problem of={outcomes.error} />;
  if (plans.data && name === undefined) return <h1>There is no plan yet, so nothing has ended</h1>;
  if (!outcomes.data) return <Loading />;
  const view = outcomes.data;
  const over = (view.tally.done ?? 0) + (view.tally.exempt ?? 0);
  return (
    <>
      <PlanSwitcher plans={plans.data} name={name} />
      <h1>
        <b>{amount(over)}</b> of <b>{amount(view.machines)}</b> closed, <b>{amount(view.open.length)}</b> open
      </h1>
      <p className="under">
        plan <Link to={`/plans/${view.plan}`}>{view.plan}</Link> · runs: {counts(view.outcomes)} · exempt: {counts(view.exemptions)}
        {view.reclaimedBytes !== null && ` · ${bytes(view.reclaimedBytes)} reclaimed after rollback periods`}
      </p>
      <div className="columns wide-right">
        <div className="stack">
          <section className="card">
            <h2>Status</h2>
            <table id="tally">
              <tbody>
                {statuses.map(([status]) => (
                  <tr key={status}>
                    <td>
                      <Status of={status} />
                    </td>
                    <td className="num">
                      <Link to={`/plans/${view.plan}?status=${status}`} data-status={status}>
                        {amount(view.tally[status] ?? 0)}
                      </Link>
                    </td>
                  </tr>
                ))}
                <tr className="sum">
                  <td>all</td>
                  <td className="num">{amount(view.machines)}</td>
                </tr>
              </tbody>
            </table>
          </section>
          {view.rollbacks.length > 0 && <Rollbacks of={view.rollbacks} />}
        </div>
        <section className="card">
          <h2>
            Open <span className="quiet">not closed yet</span>
          </h2>
          {view.open.length === 0 && <p className="empty">None: every machine is done or exempt.</p>}
          <table>
            <tbody>
              {view.open.slice(0, 100).map((m) => (
                <tr key={m.id}>
                  <td className="nowrap">
                    <MachineLink name={m.name} to={m.run ? `/runs/${m.run}` : undefined} />
                  </td>
                  <td className="nowrap">
                    <Status of={m.status} />
                  </td>
                  <td className="quiet">{m.why}</td>
                  <td className="nowrap num">
                    <MemberActions plan={view.plan} machine={m.name} status={m.status} hasRun={m.run !== null} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {view.open.length > 100 && <p className="quiet">{view.open.length - 100} more; see the plan.</p>}
        </section>
      </div>
    </>
  );
}

const counts = (of: Record<string, number>) =>
  Object.entries(of)
    .map(([name, count]) => `${count} ${word(name)}`)
    .join(', ') || 'none';
