import { Button } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { amount, date, word } from '../parts/words';
import { useMay } from '../session/useSession';

export function PlansPage() {
  const may = useMay();
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => take(api.GET('/api/v1/plans')) });
  if (failed(plans)) return <Problem of={plans.error} />;
  if (!plans.data) return <Loading />;
  const moving = plans.data.filter((plan) => plan.state === 'started').length;
  return (
    <>
      <div className="title">
        <h1>
          <b>{plans.data.length}</b> {plans.data.length === 1 ? 'plan' : 'plans'}, <b>{moving}</b> running
        </h1>
        {may('CreatePlan') && (
          <Button className="acts" component={Link} to="/plans/new">
            Create a plan
          </Button>
        )}
      </div>
      <p className="under">
        A plan is a file too: <code>gstair plan load FILE</code>, and <code>gstair plan text NAME</code> for the one that there is.
      </p>
      <section className="card">
        <table>
          <thead>
            <tr>
              <th>Plan</th>
              <th>Target</th>
              <th>State</th>
              <th className="num">machines</th>
              <th className="num">verified</th>
              <th className="num">running</th>
              <th className="num">parked</th>
              <th className="num">not ready</th>
              <th>Deadline</th>
            </tr>
          </thead>
          <tbody>
            {plans.data.map((plan) => {
              const of = (status: string) => plan.tally[status] ?? 0;
              return (
                <tr key={plan.name}>
                  <td>
                    <Link to={`/plans/${plan.name}`}>{plan.name}</Link>
                  </td>
                  <td>{plan.target}</td>
                  <td>{plan.held ? <strong className="held">held: {plan.held}</strong> : word(plan.state)}</td>
                  <td className="num">{amount(plan.machines)}</td>
                  <td className="num">{of('verified') + of('done')}</td>
                  <td className="num">{of('running')}</td>
                  <td className="num">{of('parked')}</td>
                  <td className="num">{of('not-ready')}</td>
                  <td>{date(plan.deadline)}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </section>
    </>
  );
}
