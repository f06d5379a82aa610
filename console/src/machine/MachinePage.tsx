import { Button } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, type Schemas, ServiceProblem, take } from '../api/client';
import { RemoveDialog, RemovedNote } from '../fleet/Removal';
import { CheckActions } from '../parts/CheckActions';
import { Explain } from '../parts/Explain';
import { MachineLink, SuspendedOn } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { GateState, Status } from '../parts/Status';
import { date, many, span, time, word } from '../parts/words';
import { MemberActions } from '../plans/MemberActions';
import { useMay } from '../session/useSession';
import { CasesOfMachine } from '../support-cases/SupportCases';

export function MachinePage() {
  const { name = '' } = useParams();
  const queries = useQueryClient();
  const may = useMay();
  const [removing, setRemoving] = useState(false);
  const path = { params: { path: { name } } };
  const machine = useQuery({ queryKey: ['machine', name], queryFn: () => take(api.GET('/api/v1/machines/{name}', path)) });
  const gate = useQuery({
    queryKey: ['gate', name],
    enabled: machine.data?.removed === null,
    queryFn: () => take(api.GET('/api/v1/machines/{name}/gate', path)),
  });
  const read = useMutation({
    mutationFn: () => take(api.POST('/api/v1/machines/{name}/readings', path)),
    onSuccess: () => queries.invalidateQueries(),
  });
  if (failed(machine)) return <Problem of={machine.error} />;
  if (!machine.data) return <Loading />;
  const { machine: m, places, removed } = machine.data;
  const place = places.at(-1);
  return (
    <>
      <div className="title">
        <h1>
          <code>{m.name}</code>
          <SuspendedOn name={m.name} />, {m.product ?? 'product not known'} <b>{m.version}</b>
          {place && (
            <>
              {': '}
              <Status of={place.status} />
            </>
          )}
        </h1>
        <div className="title-acts">
          {!removed && may('RemoveMachines') && (
            <Button variant="default" onClick={() => setRemoving(true)}>
              Remove from fleet …
            </Button>
          )}
          {!removed && may('ReadMachine') && (
            <Button className="acts" loading={read.isPending} onClick={() => read.mutate()}>
              Update readings
            </Button>
          )}
        </div>
      </div>
      <p className="under">
        {[
          m.site,
          m.group,
          m.model,
          m.owner && `owner ${m.owner}`,
          machine.data.connection.kind === 'simulated' ? 'simulated machine' : `reached by ${machine.data.connection.kind}`,
        ]
          .filter(Boolean)
          .join(' · ')}
        {m.lastSeen && ` · last seen ${time(m.lastSeen)}`}
        {machine.data.silent && <strong className="held"> · no contact for 7 days</strong>}
        {' · '}
        <a href={`/api/v1/machines/${encodeURIComponent(m.name)}/referral`}>Download support bundle</a>
      </p>
      {machine.data.pair && (
        <p className="under">
          <b>{pairs[machine.data.pair.state]}</b> <MachineLink name={machine.data.pair.other} />
        </p>
      )}
      {removed && <RemovedNote id={m.id} name={m.name} removed={removed} mayRestore={may('RestoreMachine')} />}
      {removing && <RemoveDialog machines={[m.name]} onClose={() => setRemoving(false)} />}
      {read.error && <Problem of={read.error} />}
      <div className="columns halves">
        <div className="stack">
          {!removed && gate.data && <Gate gate={gate.data} plan={place?.plan} />}
          {!removed && gate.error && !(gate.error instanceof ServiceProblem && gate.error.status === 404) && <Problem of={gate.error} />}
          <Places view={machine.data} />
          <CasesOfMachine machine={m.name} />
        </div>
        <Readings view={machine.data} />
      </div>
    </>
  );
}

/** What a machine is to the other one of an upgrade side by side. */
const pairs: Record<string, string> = {
  'to-be-replaced': 'To be replaced by',
  replaced: 'Replaced by',
  'stands-by': 'Stands by to take the place of',
  'took-over': 'Took the place of',
};

/** The route's hops, and the alternatives that were not taken. */
function Route({ gate }: { gate: Schemas['GateView'] }) {
  return (
    <>
      <ol className="legs">
        {gate.legs.map((leg) => (
          <li key={leg.hop}>
            <b>{leg.hop}</b> {leg.title ? `${leg.title}, preserves ${leg.preserves}` : leg.why}
            <span className="quiet">
              {leg.component && ` · component ${leg.component}`}
              {leg.edition && ` · as ${leg.edition}`}
              {Object.entries(leg.brings).map(([key, value]) => ` · brings ${key} ${value}`)}
            </span>
          </li>
        ))}
      </ol>
      <p className="quiet small">
        outage {Math.round(gate.outageMinutes)} min
        {gate.build && ` · build ${gate.build} or later`}
        {gate.offer === 'not-yet' && ' · not offered to this machine yet'}
        {gate.offer === 'unknown' && ' · unknown whether it is offered to this machine'}
      </p>
      {gate.overridden && (
        <p className="small">
          {word(gate.overridden.method)} was chosen by {gate.overridden.by}: {gate.overridden.reason}
        </p>
      )}
      {gate.alternatives.map((other) => (
        <p key={other.hops.join()} className="quiet small">
          not by {other.hops.join(' → ')}: {other.why}
        </p>
      ))}
    </>
  );
}

function Gate({ gate, plan }: { gate: Schemas['GateView']; plan: string | undefined }) {
  const open = gate.checks.filter((c) => c.state === 'unmet' || c.state === 'unknown');
  if (gate.arrived)
    return (
      <section className="card">
        <h2>Runs {gate.target} already</h2>
      </section>
    );
  return (
    <section className="card">
      <h2>
        <span>
          To {gate.target}: <GateState of={gate.gate} />
        </span>
        {gate.instead && <span className="held">{gate.instead}</span>}
      </h2>
      {gate.partlyTo && (
        <p className="parked-box" role="status">
          <strong>Partly upgraded</strong> to {gate.partlyTo}: retry it, run a fix script, roll it back, or exempt it from its plan.
        </p>
      )}
      {open.length === 0 && gate.why && <p>{gate.why}</p>}
      {gate.legs.length > 0 && <Route gate={gate} />}
      {gate.rejected.map((rejected) => (
        <p key={rejected.method} className="quiet small">
          {word(rejected.method)} not possible: {rejected.why}
        </p>
      ))}
      {open.map((check) => (
        <div key={`${check.leg}/${check.name}`} className="check">
          <h3>
            {check.title}{' '}
            <span className="quiet">
              {check.need === 'must' ? 'must' : 'should, a caution'}
              {gate.legs.length > 1 && `, leg ${check.leg}`}
            </span>
          </h3>
          <Explain seen={check.seen} wanted={check.wanted} fix={check.fix} state={check.state} />
          {check.lapsed && <p className="small held">No longer waived: {check.lapsed}</p>}
          <CheckActions machine={gate.machine} check={check} target={{ plan }} />
        </div>
      ))}
      <ul className="met">
        {gate.checks
          .filter((c) => !open.includes(c))
          .map((check) => (
            <li key={`${check.leg}/${check.name}`} className={`is-check-${check.state}`}>
              <span className="check-state">{check.state === 'deferred' ? 'checked in the window' : word(check.state)}</span> {check.title}
              {check.waiver && (
                <span className="quiet">
                  {' '}
                  by {check.waiver.by} until {date(check.waiver.until)}: {check.waiver.reason}
                </span>
              )}
            </li>
          ))}
      </ul>
      {gate.until && <p className="quiet small">Valid until {time(gate.until)}, when a reading expires.</p>}
    </section>
  );
}

function Places({ view }: { view: Schemas['MachineView'] }) {
  if (view.places.length === 0 && view.runs.length === 0) return null;
  return (
    <section className="card">
      <h2>Plans and runs</h2>
      <ul className="rows">
        {view.places.map((place) => (
          <li key={place.plan} className="line">
            <span>
              <Link to={`/plans/${place.plan}`}>{place.plan}</Link>, wave {place.wave}
            </span>
            <MemberActions plan={place.plan} machine={view.machine.name} status={place.status} hasRun={place.run !== null} />
            <span className="quiet">{place.slotStart ? `slot ${time(place.slotStart)}` : (place.why ?? '')}</span>
          </li>
        ))}
        {view.runs.map((run) => (
          <li key={run.run} className="line">
            <span>
              <Link to={`/runs/${run.run}`}>run {run.run}</Link> <span className="quiet">{run.step ?? word(run.outcome)}</span>
            </span>
            <Status of={run.status} />
          </li>
        ))}
      </ul>
    </section>
  );
}

function Readings({ view }: { view: Schemas['MachineView'] }) {
  const differing = new Map(view.conflicts.map((d) => [d.key, d]));
  const [opened, setOpened] = useState<string | null>(null);
  return (
    <section className="card">
      <h2>
        Readings{' '}
        <span className="quiet">
          {differing.size > 0 ? `sources conflict on ${many(differing.size, 'key')}; the newer counts` : 'all sources agree'}
        </span>
      </h2>
      {view.readings.length === 0 && <p className="empty">No data collected yet. Read it now, or import an inventory.</p>}
      <table>
        <tbody>
          {view.readings.map((reading) => {
            const other = differing.get(reading.key);
            return (
              <tr key={reading.key}>
                <td className="nowrap">
                  <button
                    type="button"
                    className="plain"
                    title="How it changed"
                    aria-expanded={opened === reading.key}
                    onClick={() => setOpened(opened === reading.key ? null : reading.key)}
                  >
                    <code>{reading.key}</code>
                  </button>
                </td>
                <td className={reading.state === 'value' ? '' : 'quiet'}>
                  {reading.shown}
                  {other && (
                    <div className="differs">
                      {other.source} said {other.shown}, {span(other.ageSeconds)} ago
                    </div>
                  )}
                  {opened === reading.key && <History machine={view.machine.name} of={reading.key} />}
                </td>
                <td className="quiet num nowrap">
                  {span(reading.ageSeconds)} ago, {reading.source}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}

/** How a reading changed, newest first. */
function History({ machine, of }: { machine: string; of: string }) {
  const history = useQuery({
    queryKey: ['history', machine, of],
    queryFn: () => take(api.GET('/api/v1/machines/{name}/readings/{key}', { params: { path: { name: machine, key: of } } })),
  });
  if (failed(history)) return <Problem of={history.error} />;
  return (
    <ul className="rows history">
      {history.data?.map((r) => (
        <li key={`${r.seen}/${r.source}`} className="line">
          <span>{r.shown}</span>
          <span className="quiet num">
            {time(r.seen)}, {r.source}
          </span>
        </li>
      ))}
    </ul>
  );
}
