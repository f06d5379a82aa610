import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { word } from '../parts/words';

/** The plans, and the one that a page shows: from the URL, or the running plan with most machines to go, or the newest. */
export function usePlan() {
  const [params] = useSearchParams();
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => take(api.GET('/api/v1/plans')) });
  const current =
    plans.data
      ?.filter((p) => p.state === 'started')
      .toReversed()
      .toSorted((a, b) => b.toGo - a.toGo)[0] ?? plans.data?.at(-1);
  return { plans, name: params.get('plan') ?? current?.name };
}

/** Switches the plan that a page shows; hidden if there is only one. */
export function PlanSwitcher({ plans, name }: { plans: Schemas['PlanRow'][] | undefined; name: string | undefined }) {
  const [params, setParams] = useSearchParams();
  if (!plans || plans.length < 2) return null;
  return (
    <label className="plan-switcher">
      Plan{' '}
      <select
        value={name}
        onChange={(e) => {
          const next = new URLSearchParams(params);
          next.set('plan', e.currentTarget.value);
          setParams(next);
        }}
      >
        {plans.toReversed().map((plan) => (
          <option key={plan.name} value={plan.name}>
            {plan.name}, {word(plan.state)}
          </option>
        ))}
      </select>
    </label>
  );
}
