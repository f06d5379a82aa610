import { Button } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { Explain, mender } from '../parts/Explain';
import { Loading, Problem } from '../parts/Problem';
import { many, span, word } from '../parts/words';

interface Target {
  plan?: string;
  product?: string;
  scope?: string;
}

export function ReadinessPage() {
  const [params, setParams] = useSearchParams();
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => take(api.GET('/api/v1/plans')) });
  const products = useQuery({ queryKey: ['fixed', 'catalogue'], queryFn: () => take(api.GET('/api/v1/catalogue')) });
  const target: Target = {
    product: params.get('product') ?? undefined,
    plan: params.get('product') ? undefined : (params.get('plan') ?? plans.data?.at(-1)?.name),
    scope: params.get('scope') ?? undefined,
  };
  const asked = Boolean(target.plan ?? target.product);
  const readiness = useQuery({
    queryKey: ['readiness', target],
    queryFn: () => take(api.GET('/api/v1/readiness', { params: { query: target } })),
    enabled: asked,
  });
  if (plans.error) return <Problem of={plans.error} />;
  if (readiness.error) return <Problem of={readiness.error} />;
  const targets = (
    <p className="targets">
      {plans.data?.map((plan) => (
        <Link key={plan.name} to={`/readiness?plan=${plan.name}`} className={target.plan === plan.name ? 'here' : ''}>
          plan {plan.name}
        </Link>
      ))}
      {products.data?.map((product) => (
        <Link
          key={product.name}
          to={`/readiness?product=${encodeURIComponent(product.name)}`}
          className={target.product === product.name ? 'here' : ''}
        >
          all {product.name}
        </Link>
      ))}
    </p>
  );
  if (plans.data && !asked)
    return (
      <>
        <h1>Whose readiness?</h1>
        {targets}
      </>
    );
  if (!readiness.data) return <Loading />;
  const view = readiness.data;
  const going = view.machines - view.arrived;
  const check = view.checks.find((c) => c.name === params.get('check')) ?? view.checks.find((c) => c.unmet + c.untold > 0);
  const choose = (name: string) => {
    const next = new URLSearchParams(params);
    next.set('check', name);
    next.delete('machine');
    setParams(next, { replace: true });
  };
  return (
    <>
      <h1>
        To {view.target}: <b>{view.open}</b> of <b>{going}</b> gates open, <b>{view.shut}</b> shut, <b>{view.undecided}</b> undecided
      </h1>
      <p className="under">
        {view.checks
          .filter((c) => c.opens > 0)
          .slice(0, 3)
          .map((c) => (
            <span key={c.name} className="gain">
              <b>+{c.opens}</b> {c.title.toLowerCase()}
            </span>
          ))}
        {view.nobodyCanMend > 0 && (
          <span className="gain">
            <b>{view.nobodyCanMend}</b> nobody can mend
          </span>
        )}
        {view.disagreements > 0 && <span className="gain">sources disagree on {many(view.disagreements, 'machine')}</span>}
      </p>
      {targets}
      <div className="columns wide-left">
        <Checks view={view} chosen={check?.name} onChoose={choose} />
        {check && <Behind target={target} check={check} />}
      </div>
      {view.reasons.length > 0 && (
        <section className="card below">
          <h2>Without a gate</h2>
          <ul className="rows">
            {view.reasons.map((reason) => (
              <li key={reason.reason} className="way">
                <b>{reason.machines}</b>
                <div>{reason.reason}</div>
                {target.plan && <Link to={`/plans/${target.plan}?standing=not-ready`}>Decide</Link>}
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}

function Checks({
  view,
  chosen,
  onChoose,
}: {
  view: Schemas['ReadinessView'];
  chosen: string | undefined;
  onChoose: (name: string) => void;
}) {
  return (
    <section className="card">
      <table className="checks">
        <thead>
          <tr>
            <th>Check</th>
            <th className="legend-head">
              <i className="swatch met" /> met <i className="swatch unmet" /> unmet <i className="swatch untold" /> cannot tell
            </th>
            <th className="num">unmet</th>
            <th className="num">untold</th>
            <th>who mends it</th>
            <th className="num">opens</th>
          </tr>
        </thead>
        <tbody>
          {view.checks.map((check) => (
            <tr key={check.name} className={check.name === chosen ? 'chosen' : ''}>
              <td>
                <button type="button" className="plain" onClick={() => onChoose(check.name)} aria-pressed={check.name === chosen}>
                  {check.title}
                </button>
                {check.need === 'should' && <span className="quiet"> (caution)</span>}
              </td>
              <td>
                <Bar check={check} />
              </td>
              <td className="num">{check.unmet || ''}</td>
              <td className="num">{check.untold || ''}</td>
              <td className="quiet">
                {check.unmet + check.untold > 0 ? mender(check.fix) : check.deferred > 0 ? 'asked in the window' : ''}
              </td>
              <td className="num">{check.opens > 0 ? <b>+{check.opens}</b> : ''}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Bar({ check }: { check: Schemas['CheckCount'] }) {
  const asked = check.met + check.unmet + check.untold;
  if (asked === 0) return <span className="quiet">{check.deferred > 0 ? 'later' : 'not asked'}</span>;
  const width = (n: number) => ({ width: `${(n / asked) * 100}%` });
  return (
    <span className="bar" role="img" aria-label={`${check.met} met, ${check.unmet} unmet, ${check.untold} cannot tell`}>
      <span className="met" style={width(check.met)} />
      {check.unmet > 0 && <span className="unmet" style={width(check.unmet)} />}
      {check.untold > 0 && <span className="untold" style={width(check.untold)} />}
    </span>
  );
}

/** The machines behind a check, and the one chosen explained. */
function Behind({ target, check }: { target: Target; check: Schemas['CheckCount'] }) {
  const [params, setParams] = useSearchParams();
  const queries = useQueryClient();
  const rows = useQuery({
    queryKey: ['readiness-machines', target, check.name],
    queryFn: () =>
      take(
        api.GET('/api/v1/readiness/machines', { params: { query: { ...target, check: check.name, state: 'unmet,untold', limit: 500 } } }),
      ),
  });
  const chosen = rows.data?.items.find((row) => row.name === params.get('machine')) ?? rows.data?.items[0];
  const gate = useQuery({
    queryKey: ['gate', chosen?.name, target],
    queryFn: () =>
      take(
        api.GET('/api/v1/machines/{name}/gate', {
          params: { path: { name: chosen?.name as string }, query: { plan: target.plan, product: target.product } },
        }),
      ),
    enabled: chosen !== undefined,
  });
  const read = useMutation({
    mutationFn: (name: string) => take(api.POST('/api/v1/machines/{name}/readings', { params: { path: { name } } })),
    onSettled: () => queries.invalidateQueries(),
  });
  const pick = (name: string) => {
    const next = new URLSearchParams(params);
    next.set('machine', name);
    setParams(next, { replace: true });
  };
  const one = gate.data?.checks.find((c) => c.name === check.name);
  return (
    <section className="card">
      <h2>
        {check.title} <span className="quiet">{rows.data ? many(rows.data.total, 'machine') : ''}</span>
      </h2>
      {rows.data?.total === 0 && <p className="empty">Met by every machine that it is asked of.</p>}
      <ul className="pick">
        {rows.data?.items.map((row) => (
          <li key={row.id} className={row.name === chosen?.name ? 'chosen' : ''}>
            <button type="button" className="plain" onClick={() => pick(row.name)} aria-pressed={row.name === chosen?.name}>
              <code>{row.name}</code>
              <span>{row.seen[0] ? (row.seen[0].note ?? row.seen[0].shown) : word(row.checkState)}</span>
              <span className="quiet num">
                {row.seen[0]?.ageSeconds != null ? `${span(row.seen[0].ageSeconds)} ago, ${row.seen[0].source}` : ''}
              </span>
            </button>
          </li>
        ))}
      </ul>
      {chosen && one && gate.data && (
        <div className="chosen-one">
          <h3>
            <Link to={`/machines/${encodeURIComponent(chosen.name)}`}>
              <code>{chosen.name}</code>
            </Link>
          </h3>
          <Explain seen={one.seen} wanted={one.wanted} fix={one.fix} state={one.state} />
          <p className="then">
            <span className="quiet">then</span> {then(gate.data, check.name)}
          </p>
          <Button className="acts" loading={read.isPending} onClick={() => read.mutate(chosen.name)}>
            Read again now
          </Button>
          {read.error && <Problem of={read.error} />}
        </div>
      )}
    </section>
  );
}

function then(gate: Schemas['GateView'], check: string): string {
  const others = gate.checks.filter((c) => c.need === 'must' && c.name !== check && (c.state === 'unmet' || c.state === 'untold'));
  if (others.length > 0) return `still in the way: ${others.map((c) => c.title.toLowerCase()).join('; ')}`;
  return `the gate opens; method: ${word(gate.method)}`;
}
