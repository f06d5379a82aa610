import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { CheckActions } from '../parts/CheckActions';
import { ConditionField } from '../parts/ConditionField';
import { Explain, fixedBy } from '../parts/Explain';
import { useRowsInSight } from '../parts/inSight';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { amount, date, many, span, word } from '../parts/words';
import { usePlan } from '../plans/usePlan';

const PART = 200;
const ROW = 31;

interface Target {
  plan?: string;
  product?: string;
  scope?: string;
}

export function ReadinessPage() {
  const [params, setParams] = useSearchParams();
  const { plans, name } = usePlan();
  const products = useQuery({ queryKey: ['fixed', 'catalogue'], queryFn: () => take(api.GET('/api/v1/catalogue')) });
  const target: Target = {
    product: params.get('product') ?? undefined,
    plan: params.get('product') ? undefined : name,
    scope: params.get('scope') ?? undefined,
  };
  const asked = Boolean(target.plan ?? target.product);
  const readiness = useQuery({
    queryKey: ['readiness', target],
    queryFn: () => take(api.GET('/api/v1/readiness', { params: { query: target } })),
    enabled: asked,
  });
  if (failed(plans)) return <Problem of={plans.error} />;
  const narrow = (scope: string) => {
    const next = new URLSearchParams(params);
    next.delete('machine');
    if (scope) next.set('scope', scope);
    else next.delete('scope');
    setParams(next);
  };
  const scoping = (
    <ConditionField
      className="left"
      value={target.scope ?? ''}
      label="Only machines that match a filter"
      placeholder={'all, or those with site = "Westhaven" …'}
      onSubmit={narrow}
    />
  );
  if (failed(readiness))
    return (
      <>
        <h1>Readiness</h1>
        {scoping}
        <Problem of={readiness.error} />
      </>
    );
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
        <h1>Select a plan or product</h1>
        {targets}
      </>
    );
  if (!readiness.data) return <Loading />;
  const view = readiness.data;
  const going = view.machines - view.arrived;
  const check =
    view.checks.find((c) => c.name === params.get('check')) ??
    view.checks.find((c) => c.name === view.toFix[0]?.check) ??
    view.checks.find((c) => c.unmet + c.unknown > 0);
  const choose = (name: string) => {
    const next = new URLSearchParams(params);
    next.set('check', name);
    next.delete('machine');
    setParams(next, { replace: true });
  };
  return (
    <>
      <h1>
        To {view.target}: <b>{amount(view.open)}</b> of <b>{amount(going)}</b> machines ready, <b>{amount(view.blocked)}</b> blocked,{' '}
        <b>{amount(view.undecided)}</b> undecided
      </h1>
      <p className="under">
        {view.nobodyCanFix > 0 && (
          <span className="gain">
            <b>{amount(view.nobodyCanFix)}</b> cannot be fixed
          </span>
        )}
        {view.waitingForOffer > 0 && (
          <span className="gain">
            <b>{view.waitingForOffer}</b> eligible, not offered yet
          </span>
        )}
        {view.arrived > 0 && <span className="gain">{view.arrived} already on the target release</span>}
        {view.undecidedScope > 0 && <span className="gain">{view.undecidedScope} more with unknown membership</span>}
        {view.silent > 0 && <span className="gain">{view.silent} without contact for 7 days</span>}
        {view.conflicts > 0 && <span className="gain">sources conflict on {many(view.conflicts, 'machine')}</span>}
      </p>
      <div className="scoping">
        {targets}
        {scoping}
        <span className="quiet">
          report:{' '}
          {['html', 'csv', 'json'].map((format) => (
            <a key={format} href={reportOf(target, format)}>
              {format.toUpperCase()}
            </a>
          ))}
        </span>
      </div>
      <div className="columns wide-left">
        <div className="stack">
          <ToFix view={view} onChoose={choose} />
          <Checks view={view} chosen={check?.name} onChoose={choose} />
        </div>
        {check && <Behind key={check.name} target={target} check={check} />}
      </div>
      {view.reasons.length > 0 && (
        <section className="card below">
          <h2>Without a gate</h2>
          <ul className="rows">
            {view.reasons.map((reason) => (
              <li key={reason.reason} className="way">
                <b>{amount(reason.machines)}</b>
                <div>{reason.reason}</div>
                {target.plan && <Link to={`/plans/${target.plan}?status=not-ready`}>Decide</Link>}
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}

function reportOf(target: Target, format: string): string {
  const query = new URLSearchParams({ format });
  for (const [name, value] of Object.entries(target)) if (value) query.set(name, value);
  return `/api/v1/readiness/report?${query}`;
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
  const waived = view.checks.some((c) => c.waived > 0);
  return (
    <section className="card">
      <table className="checks">
        <thead>
          <tr>
            <th>Check</th>
            <th className="legend-head">
              <i className="swatch met" /> met <i className="swatch unmet" /> not met <i className="swatch unknown" /> unknown
            </th>
            <th className="num">unmet</th>
            <th className="num">unknown</th>
            {waived && <th className="num">waived</th>}
            <th>who fixes it</th>
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
                {check.need === 'should' && <span className="quiet"> (warning)</span>}
              </td>
              <td>
                <Bar check={check} />
              </td>
              <td className="num">{check.unmet || ''}</td>
              <td className="num">{check.unknown || ''}</td>
              {waived && <td className="num">{check.waived || ''}</td>}
              <td className="quiet">
                {check.unmet + check.unknown > 0 ? fixedBy(check.fix) : check.deferred > 0 ? 'checked in the window' : ''}
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
  const asked = check.met + check.unmet + check.unknown;
  if (asked === 0) return <span className="quiet">{check.deferred > 0 ? 'later' : 'not asked'}</span>;
  const width = (n: number) => ({ width: `${(n / asked) * 100}%` });
  return (
    <span className="bar" role="img" aria-label={`${check.met} met, ${check.unmet} not met, ${check.unknown} unknown`}>
      <span className="met" style={width(check.met)} />
      {check.unmet > 0 && <span className="unmet" style={width(check.unmet)} />}
      {check.unknown > 0 && <span className="unknown" style={width(check.unknown)} />}
    </span>
  );
}

/** The machines behind a check, and an explanation of the selected one. */
function Behind({ target, check }: { target: Target; check: Schemas['CheckCount'] }) {
  const [params, setParams] = useSearchParams();
  const rows = useInfiniteQuery({
    queryKey: ['readiness-machines', target, check.name],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/readiness/machines', {
          params: { query: { ...target, check: check.name, state: 'unmet,unknown,waived', limit: PART, cursor: pageParam ?? undefined } },
        }),
      ),
    initialPageParam: null as string | null,
    getNextPageParam: (last) => last.next,
  });
  const all = rows.data?.pages.flatMap((page) => page.items) ?? [];
  const chosen = params.get('machine') ?? all[0]?.name;
  const gate = useQuery({
    queryKey: ['gate', chosen, target],
    queryFn: () =>
      take(
        api.GET('/api/v1/machines/{name}/gate', {
          params: { path: { name: chosen as string }, query: { plan: target.plan, product: target.product } },
        }),
      ),
    enabled: chosen !== undefined,
  });
  const pick = (name: string) => {
    const next = new URLSearchParams(params);
    next.set('check', check.name);
    next.set('machine', name);
    setParams(next, { replace: true });
  };
  const one = gate.data?.checks.find((c) => c.name === check.name);
  return (
    <section className="card">
      <h2>
        {check.title} <span className="quiet">{rows.data ? many(rows.data.pages[0]?.total ?? 0, 'machine') : ''}</span>
      </h2>
      {rows.error && <Problem of={rows.error} />}
      {rows.data && all.length === 0 && <p className="empty">Met by every machine that it applies to.</p>}
      <PickList rows={all} chosen={chosen} more={rows.hasNextPage} onMore={() => rows.fetchNextPage()} onPick={pick} />
      {chosen && one && gate.data && (
        <div className="chosen-one">
          <h3>
            <MachineLink name={chosen} />
          </h3>
          <Explain seen={one.seen} wanted={one.wanted} fix={one.fix} state={one.state} />
          {one.waiver && (
            <p className="small">
              Waived by {one.waiver.by} until {date(one.waiver.until)}: {one.waiver.reason}
            </p>
          )}
          {one.lapsed && <p className="small held">No longer waived: {one.lapsed}</p>}
          <p className="then">
            <span className="quiet">then</span> {then(gate.data, check.name)}
          </p>
          <CheckActions machine={chosen} check={one} target={{ plan: target.plan, product: target.product }} />
        </div>
      )}
    </section>
  );
}

interface PickProps {
  rows: Schemas['ReadinessRow'][];
  chosen: string | undefined;
  more: boolean;
  onMore: () => void;
  onPick: (name: string) => void;
}

function PickList({ rows, chosen, more, onMore, onPick }: PickProps) {
  const { box, shown, height } = useRowsInSight<HTMLUListElement>({ count: rows.length, height: ROW, overscan: 8, more, onMore });
  return (
    <ul className="pick" ref={box}>
      <li className="pick-room" style={{ height }}>
        {shown.map((item) => {
          const row = rows[item.index] as Schemas['ReadinessRow'];
          const seen = row.seen[0];
          return (
            <button
              key={row.id}
              type="button"
              className={`plain${row.name === chosen ? ' chosen' : ''}`}
              style={{ transform: `translateY(${item.start}px)` }}
              onClick={() => onPick(row.name)}
              aria-pressed={row.name === chosen}
            >
              <code>{row.name}</code>
              <span title={seen ? (seen.note ?? seen.shown) : undefined}>
                {row.checkState === 'waived' ? 'waived' : seen ? (seen.note ?? seen.shown) : word(row.checkState)}
              </span>
              <span className="quiet num">{seen?.ageSeconds != null ? `${span(seen.ageSeconds)} ago, ${seen.source}` : ''}</span>
            </button>
          );
        })}
      </li>
    </ul>
  );
}

/** What to fix, in the order that unblocks the most machines. */
function ToFix({ view, onChoose }: { view: Schemas['ReadinessView']; onChoose: (name: string) => void }) {
  if (view.toFix.length === 0) return null;
  return (
    <section className="card">
      <h2>
        Recommended fix order <span className="quiet">cumulative</span>
      </h2>
      <ol className="rows to-fix">
        {view.toFix.map((step) => (
          <li key={step.check}>
            <button type="button" className="plain" onClick={() => onChoose(step.check)}>
              {step.title}
            </button>
            <span className="quiet">{fixedBy(step)}</span>
            <span className="num">{many(step.machines, 'machine')}</span>
            <b className="num">+{step.opens}</b>
            <span className="quiet num">{step.openThen} ready</span>
          </li>
        ))}
      </ol>
    </section>
  );
}

function then(gate: Schemas['GateView'], check: string): string {
  const others = gate.checks.filter((c) => c.need === 'must' && c.name !== check && (c.state === 'unmet' || c.state === 'unknown'));
  if (others.length > 0) return `still blocked by: ${others.map((c) => c.title.toLowerCase()).join('; ')}`;
  return `the gate opens; method: ${word(gate.method)}`;
}
