import { Button } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { date, many, percent, span, time } from '../parts/words';
import { useMay, useSession } from '../session/useSession';
import { ChangeLine, Few, LastSlot, LeftLine, useSchedule } from './Schedule';
import { ShareLinks } from './ShareLinks';

type View = Schemas['PlanView'];

/** Approvals, deadline and pilot coverage of a plan. */
export function Planning({ view }: { view: View }) {
  return (
    <div className="before-and-pilot">
      <InTime view={view} />
      {view.planning.approvals.length > 0 && <Approvals view={view} />}
      {view.planning.coverages.map((coverage) => (
        <Coverage key={coverage.wave} of={coverage} />
      ))}
      {view.plan.state !== 'ended' && <ShareLinks view={view} />}
    </div>
  );
}

function InTime({ view }: { view: View }) {
  const name = view.plan.name;
  const schedule = useSchedule(name, view.plan.state !== 'ended');
  const forecast = useQuery({
    queryKey: ['forecast', name],
    enabled: view.plan.state === 'started',
    retry: false,
    queryFn: () => take(api.GET('/api/v1/plans/{name}/forecast', { params: { path: { name } } })),
  });
  if (view.plan.state === 'ended') return null;
  const p = schedule.data;
  return (
    <section className="card">
      <h2>
        <span>Deadline forecast</span>
        <span>
          <Link to={`/plans/${name}/rehearsal`}>rehearse</Link> · <Link to={`/plans/${name}/board`}>schedule by site</Link>
        </span>
      </h2>
      {schedule.error && <Problem of={schedule.error} />}
      {forecast.data && <Likely of={forecast.data} />}
      {!p && !schedule.error && <p className="quiet">Scheduling …</p>}
      {p && (
        <>
          <p>{p.end === null ? 'All machines have had their slots.' : <LastSlot of={p} />}</p>
          {p.waves
            .filter((w) => w.boundWhy)
            .slice(-1)
            .map((w) => (
              <p key={w.wave} className="quiet">
                It cannot end before {time(w.bound)}: {w.boundWhy}.
              </p>
            ))}
          {p.changes.length > 0 && (
            <>
              <p>{p.changes.every((c) => c.meets) ? 'Each of these alone would meet the deadline:' : 'Together, these help most:'}</p>
              <ul className="rows">
                {p.changes.map((c) => (
                  <ChangeLine key={c.what} of={c} />
                ))}
              </ul>
            </>
          )}
          {p.left.length > 0 && (
            <>
              <p>
                <b>{many(p.left.length, 'machine')}</b> {p.left.length === 1 ? 'finds' : 'find'} no place:
              </p>
              <Few of={p.left} most={5} rest={`; gstair plan schedule ${name} shows all.`}>
                {(l) => <LeftLine key={l.machine} of={l} />}
              </Few>
            </>
          )}
        </>
      )}
    </section>
  );
}

/** The age of a forecast, and what has changed since it was made. */
export function ForecastAge({ of }: { of: Schemas['ForecastView'] }) {
  return (
    <span className="quiet">
      Made {span(of.ageSeconds)} ago.{of.outdated && <strong className="held"> Outdated: {of.outdated} since.</strong>}
    </span>
  );
}

/** A summary of the forecast in two sentences. */
function Likely({ of }: { of: Schemas['ForecastView'] }) {
  const first = of.sites[0];
  return (
    <p>
      {of.inTime !== null && (
        <>
          <b className={of.inTime < 0.5 ? 'held' : undefined}>{percent(of.inTime)} likely</b> to be in time:{' '}
        </>
      )}
      all machines are expected to be verified between <b>{date(of.verified.p10)}</b> and{' '}
      <b>{of.verified.p90 ? date(of.verified.p90) : 'an unknown date'}</b>.
      {first && (
        <span className="quiet">
          {' '}
          The last site is <Link to={`/fleet?filter=${encodeURIComponent(`site = "${first.site}"`)}`}>{first.site}</Link>, delayed most by{' '}
          {first.bottleneck}.
        </span>
      )}{' '}
      <ForecastAge of={of} />
    </p>
  );
}

/** Approvers who may not approve because they changed the plan. */
const barred = (a: Schemas['ApprovalView']) => a.contributors.filter((c) => a.asked.length === 0 || a.asked.includes(c));

function Approvals({ view }: { view: View }) {
  const may = useMay();
  const me = useSession().data?.actor;
  const queries = useQueryClient();
  const [giving, setGiving] = useState<Schemas['ApprovalView'] | null>(null);
  const give = useMutation({
    mutationFn: (reason: string) =>
      take(
        api.POST('/api/v1/plans/{name}/approvals', {
          params: { path: { name: view.plan.name } },
          body: {
            reason,
            wave: giving?.subject === 'plan' ? null : (giving?.subject.slice('wave '.length) ?? null),
            intent: giving?.intent ?? '',
          },
        }),
      ),
    onSuccess: () => {
      setGiving(null);
      queries.invalidateQueries();
    },
  });
  const open = view.planning.approvals.filter((a) => a.by === null);
  return (
    <section className="card">
      <h2>
        <span>{open.length === 0 ? 'Approved' : `${open.length} of ${view.planning.approvals.length} still to be approved`}</span>
      </h2>
      <ul className="rows">
        {view.planning.approvals.map((a) => (
          <li key={a.subject}>
            <b>{a.subject === 'plan' ? 'The plan as a whole' : a.subject.replace('wave ', 'Wave ')}</b>{' '}
            {a.by ? (
              <span className="quiet">
                approved by {a.by}, {time(a.at)}: {a.reason}
                {a.loadedSince.length > 0 && '.'}
              </span>
            ) : (
              <>
                <span className="held">
                  needs approval by {a.asked.length > 0 ? a.asked.join(' or ') : 'an approver'}
                  {barred(a).length > 0 && `, but not by ${barred(a).join(', ')}, who changed it`}.
                </span>
                <span className="quiet">
                  {' '}
                  {a.why}
                  {a.before && ` ${a.before}, and it was changed since.`}
                </span>
                {may('ApprovePlan') &&
                  me !== undefined &&
                  !a.contributors.includes(me) &&
                  (a.asked.length === 0 || a.asked.includes(me)) && (
                    <>
                      {' '}
                      <Button className="acts" size="xs" onClick={() => setGiving(a)}>
                        Approve
                      </Button>
                    </>
                  )}
              </>
            )}
            {a.loadedSince.map((c) => (
              <span key={c.calendar} className="quiet">
                {' '}
                Since then {c.by} loaded the calendar <code>{c.calendar}</code> again, {time(c.at)}.
              </span>
            ))}
          </li>
        ))}
      </ul>
      {giving && (
        <ReasonDialog
          title={`Approve ${giving.subject === 'plan' ? view.plan.name : giving.subject}`}
          what={`This approves what the plan is going to do as of revision ${view.planning.revision}: target, scope, methods, limits, windows, the machines in each wave, and the scripts of the catalogue. Any change of these puts the plan on hold until it is approved again.`}
          act="Approve"
          ask="Comment"
          busy={give.isPending}
          error={give.error}
          onAct={(reason) => give.mutate(reason)}
          onClose={() => setGiving(null)}
        />
      )}
    </section>
  );
}

function Coverage({ of }: { of: Schemas['CoverageView'] }) {
  const unknown = Object.entries(of.unknown).filter(([, machines]) => machines > 0);
  return (
    <section className="card">
      <h2>
        <span>
          {of.wave} covers {of.covered} of {of.values} hardware, site and application values
        </span>
      </h2>
      {of.uncovered.length > 0 && (
        <ul className="rows">
          {of.uncovered.map((u) => (
            <li key={`${u.key} ${u.value}`}>
              <Link to={`/fleet?filter=${encodeURIComponent(`${u.key} = "${u.value}"`)}`}>
                <code>
                  {u.key} = {u.value}
                </code>
              </Link>{' '}
              <span className="quiet">
                {many(u.machines, 'machine')}: {u.why}
              </span>
            </li>
          ))}
        </ul>
      )}
      {unknown.length > 0 && (
        <p className="quiet">Unknown: {unknown.map(([key, machines]) => `${key} of ${many(machines, 'machine')}`).join(', ')}</p>
      )}
    </section>
  );
}
