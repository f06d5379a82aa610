import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { fixedBy } from '../parts/Explain';
import { SuspendedOn } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { RunProgress, ToGo } from '../parts/RunProgress';
import { statuses } from '../parts/Status';
import { amount, date, hour, many, percent, span, time, word } from '../parts/words';
import { PlanSwitcher, usePlan } from '../plans/usePlan';
import { Staircase } from './Staircase';

export function OverviewPage() {
  const { plans, name } = usePlan();
  const overview = useQuery({
    queryKey: ['overview', name],
    queryFn: () => take(api.GET('/api/v1/overview/{plan}', { params: { path: { plan: name as string } } })),
    enabled: name !== undefined,
    refetchInterval: 5000,
  });
  if (failed(plans)) return <Problem of={plans.error} />;
  if (failed(overview)) return <Problem of={overview.error} />;
  if (plans.data && name === undefined) return <NoPlan />;
  if (!overview.data) return <Loading />;
  const view = overview.data;
  return (
    <>
      <PlanSwitcher plans={plans.data} name={name} />
      <Answer view={view} />
      <Staircase view={view} />
      <StatusStrip plan={view.plan} />
      <div className="columns three">
        <InTheWay view={view} />
        <Running view={view} />
        <Next view={view} />
      </div>
    </>
  );
}

function NoPlan() {
  return (
    <>
      <h1>There is no plan yet</h1>
      <p className="under">
        <Link to="/fleet/import">Import the fleet</Link>, look at its <Link to="/readiness">readiness</Link>, then{' '}
        <Link to="/plans/new">create a plan</Link>.
      </p>
    </>
  );
}

/** The overall status in one sentence, and the details below it. */
function Answer({ view }: { view: Schemas['OverviewView'] }) {
  const { plan } = view;
  const verified = count(plan, 'verified') + count(plan, 'done');
  const blocked = count(plan, 'not-ready');
  const done = view.forecast?.verified;
  return (
    <>
      <h1>
        {view.target}: <b>{amount(verified)}</b> of <b>{amount(plan.machines)}</b> verified
        {plan.state === 'ended' ? (
          <>, the plan has ended</>
        ) : (
          done && (
            <Link to={`/plans/${plan.name}/rehearsal`} className="answer">
              , done <b>{date(done.p10)}</b> to <b>{done.p90 ? date(done.p90) : 'an unknown date'}</b>
              {view.forecast?.inTime !== null && view.forecast?.inTime !== undefined && (
                <>, {percent(view.forecast.inTime)} likely in time</>
              )}
            </Link>
          )
        )}
      </h1>
      <p className="under">
        {view.forecast && !view.forecast.outdated && plan.state !== 'ended' && (
          <>forecast made {view.forecast.ageSeconds < 60 ? 'just now' : `${span(view.forecast.ageSeconds)} ago`} · </>
        )}
        {view.forecast?.outdated && <strong className="held">forecast outdated: {view.forecast.outdated} since · </strong>}
        {plan.held && <strong className="held">on hold: {plan.held} · </strong>}
        {blocked > 0 && (
          <>
            <Link to={`/plans/${plan.name}?status=not-ready`}>{many(blocked, 'machine')} not ready</Link>
            {' · '}
          </>
        )}
        {count(plan, 'parked') > 0 && (
          <>
            <Link to="/runs?status=parked">{amount(count(plan, 'parked'))} parked, waiting for a decision</Link>
            {' · '}
          </>
        )}
        plan <Link to={`/plans/${plan.name}`}>{plan.name}</Link>, {word(plan.state)}
        {view.supportEnds && <> · {supportOf(view.supportEnds, view.now)}</>}
      </p>
    </>
  );
}

/** When support of the release that machines still run ends or ended. */
const supportOf = (end: string, now: string) => {
  const days = Math.floor((Date.parse(now) - Date.parse(end)) / 86_400_000);
  return days > 0
    ? `support of the current release ended ${date(end)}, ${many(days, 'day')} ago`
    : `support of the current release ends ${date(end)}, in ${many(-days, 'day')}`;
};

const count = (plan: Schemas['PlanRow'], status: string) => plan.tally[status] ?? 0;

/** The counts by status: a legend of the staircase whose entries lead to the machines. */
function StatusStrip({ plan }: { plan: Schemas['PlanRow'] }) {
  return (
    <nav className="strip" aria-label="Machines by status">
      {statuses
        .filter(([status]) => count(plan, status) > 0)
        .map(([status, shape]) => (
          <Link
            key={status}
            to={`/plans/${plan.name}?status=${status}`}
            className={`is-${status}`}
            style={{ flexGrow: count(plan, status) }}
            title={`${amount(count(plan, status))} ${word(status)}`}
          >
            <span aria-hidden="true">{shape}</span> {amount(count(plan, status))} <span className="strip-word">{word(status)}</span>
          </Link>
        ))}
    </nav>
  );
}

const FIRST = 5;

function InTheWay({ view }: { view: Schemas['OverviewView'] }) {
  const [all, setAll] = useState(false);
  return (
    <section className="card">
      <h2>
        Blockers <span className="quiet">decisions first, then biggest impact</span>
      </h2>
      {view.inTheWay.length === 0 && <p className="empty">Nothing blocks.</p>}
      <ul className="rows">
        {view.inTheWay.slice(0, all ? undefined : FIRST).map((item) => (
          <li key={`${item.kind} ${item.title}`} className="way">
            <Link to={wayTo(view.plan.name, item)} className="count">
              {amount(item.machines || item.unknown)}
            </Link>
            <div>
              {item.title}
              {item.machines === 0 && ' (unknown: no reading that is new enough)'}
              {item.machines > 0 && item.unknown > 0 && <span className="quiet"> not met; unknown on {amount(item.unknown)} more</span>}
              <div className="quiet clamp">
                {item.kind === 'check' && item.by
                  ? `${fixedBy({ by: item.by, minutes: item.minutes })}${item.opens > 0 ? ` · unblocks ${many(item.opens, 'machine')}` : ''}`
                  : item.detail}
              </div>
            </div>
            <Link to={wayTo(view.plan.name, item)}>{verb(item)}</Link>
          </li>
        ))}
      </ul>
      {view.inTheWay.length > FIRST && (
        <button type="button" className="plain link" onClick={() => setAll(!all)}>
          {all ? 'Show fewer' : `Show ${view.inTheWay.length - FIRST} more`}
        </button>
      )}
    </section>
  );
}

function verb(item: Schemas['InTheWayView']): string {
  if (item.kind === 'check') return item.by === 'nobody' ? 'Exempt' : 'Fix';
  if (item.kind === 'no-contact') return 'Look';
  if (item.kind === 'asked') return 'Answer';
  if (item.kind === 'suspended') return 'Resume';
  if (item.kind === 'support-case') return 'Answer';
  return item.kind === 'follow-up' ? 'Close' : 'Decide';
}

function wayTo(plan: string, item: Schemas['InTheWayView']): string {
  if (item.kind === 'check') return `/readiness?plan=${plan}&check=${item.condition}`;
  if (item.kind === 'parked') return '/runs?status=parked';
  if (item.kind === 'asked') return '/runs?asked';
  if (item.kind === 'suspended') return '/runs?suspended';
  if (item.kind === 'no-contact') return '/runs?status=running';
  if (item.kind === 'follow-up') return '/follow-ups';
  if (item.kind === 'support-case') return `/support-cases/${item.condition}`;
  return `/plans/${plan}?status=${item.condition}`;
}

function Running({ view }: { view: Schemas['OverviewView'] }) {
  return (
    <section className="card">
      <h2>
        In progress{' '}
        <span className="quiet">
          {view.running.length} {view.roomAll === null ? 'without a limit' : `of at most ${view.roomAll}`}
        </span>
      </h2>
      {view.running.length === 0 && (
        <p className="empty">No upgrades are running{view.next[0] ? `; the next one starts ${time(view.next[0].from)}` : ''}.</p>
      )}
      <ul className="rows">
        {view.running.slice(0, 5).map((run) => (
          <li key={run.run}>
            <div className="line">
              <span>
                <Link to={`/runs/${run.run}`}>
                  <code>{run.machine}</code>
                </Link>{' '}
                <span className="quiet">{run.step}</span>
              </span>
              <span className="quiet num">
                <ToGo run={run} />
              </span>
            </div>
            <div className="line">
              <RunProgress run={run} />
              <SuspendedOn name={run.machine} />
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Next({ view }: { view: Schemas['OverviewView'] }) {
  return (
    <section className="card">
      <h2>
        Next <span className="quiet">{many(count(view.plan, 'scheduled'), 'slot')} to come</span>
      </h2>
      {view.next.length === 0 && <p className="empty">No slot is scheduled.</p>}
      <ul className="rows">
        {view.next.slice(0, 5).map((slot) => (
          <li key={`${slot.site} ${slot.from}`} className="way">
            <b>{amount(slot.machines)}</b>
            <div>
              {time(slot.from)} – {hour(slot.to)}, {slot.site}
              <div className="quiet">
                staged {slot.staged} of {slot.machines}
              </div>
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}
