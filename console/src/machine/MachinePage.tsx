import { Button } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, type Schemas, ServiceProblem, take } from '../api/client';
import { Explain } from '../parts/Explain';
import { Loading, Problem } from '../parts/Problem';
import { GateState, Standing } from '../parts/Standing';
import { many, span, time, word } from '../parts/words';

export function MachinePage() {
  const { name = '' } = useParams();
  const queries = useQueryClient();
  const path = { params: { path: { name } } };
  const machine = useQuery({ queryKey: ['machine', name], queryFn: () => take(api.GET('/api/v1/machines/{name}', path)) });
  const gate = useQuery({ queryKey: ['gate', name], queryFn: () => take(api.GET('/api/v1/machines/{name}/gate', path)) });
  const read = useMutation({
    mutationFn: () => take(api.POST('/api/v1/machines/{name}/readings', path)),
    onSuccess: () => queries.invalidateQueries(),
  });
  if (machine.error) return <Problem of={machine.error} />;
  if (!machine.data) return <Loading />;
  const { machine: m, places } = machine.data;
  const place = places.at(-1);
  return (
    <>
      <div className="title">
        <h1>
          <code>{m.name}</code>, {m.product ?? 'product not known'} <b>{m.version}</b>
          {place && (
            <>
              {': '}
              <Standing of={place.standing} />
            </>
          )}
        </h1>
        <Button className="acts" loading={read.isPending} onClick={() => read.mutate()}>
          Read again now
        </Button>
      </div>
      <p className="under">
        {[m.site, m.group, m.model, m.owner && `used by ${m.owner}`, `reached by ${machine.data.link.kind}`].filter(Boolean).join(' · ')}
        {m.lastSeen && ` · last seen ${time(m.lastSeen)}`}
      </p>
      {read.error && <Problem of={read.error} />}
      <div className="columns halves">
        <div className="stack">
          {gate.data && <Gate gate={gate.data} />}
          {gate.error && !(gate.error instanceof ServiceProblem && gate.error.status === 404) && <Problem of={gate.error} />}
          <Places view={machine.data} />
        </div>
        <Readings view={machine.data} />
      </div>
    </>
  );
}

function Gate({ gate }: { gate: Schemas['GateView'] }) {
  const open = gate.checks.filter((c) => c.state === 'unmet' || c.state === 'untold');
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
        <span className="quiet">{gate.method ? `${word(gate.method)}, carries ${gate.carries}` : 'no method'}</span>
      </h2>
      {open.length === 0 && gate.why && <p>{gate.why}</p>}
      {gate.against.map((against) => (
        <p key={against.method} className="quiet small">
          not {word(against.method)}: {against.why}
        </p>
      ))}
      {open.map((check) => (
        <div key={check.name} className="check">
          <h3>
            {check.title} <span className="quiet">{check.need === 'must' ? 'must' : 'should, a caution'}</span>
          </h3>
          <Explain seen={check.seen} wanted={check.wanted} fix={check.fix} state={check.state} />
        </div>
      ))}
      <ul className="met">
        {gate.checks
          .filter((c) => !open.includes(c))
          .map((check) => (
            <li key={check.name} className={`is-check-${check.state}`}>
              <span className="check-state">{check.state === 'deferred' ? 'asked later' : word(check.state)}</span> {check.title}
            </li>
          ))}
      </ul>
      {gate.until && <p className="quiet small">Holds until {time(gate.until)}, when a reading grows too old.</p>}
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
            <span className="quiet">{place.slotStart ? `slot ${time(place.slotStart)}` : (place.why ?? '')}</span>
          </li>
        ))}
        {view.runs.map((run) => (
          <li key={run.run} className="line">
            <span>
              <Link to={`/runs/${run.run}`}>run {run.run}</Link> <span className="quiet">{run.step ?? word(run.outcome)}</span>
            </span>
            <Standing of={run.standing} />
          </li>
        ))}
      </ul>
    </section>
  );
}

function Readings({ view }: { view: Schemas['MachineView'] }) {
  const differing = new Map(view.disagreements.map((d) => [d.key, d]));
  return (
    <section className="card">
      <h2>
        Readings{' '}
        <span className="quiet">
          {differing.size > 0 ? `sources disagree on ${many(differing.size, 'key')}; the newer counts` : 'all sources agree'}
        </span>
      </h2>
      {view.readings.length === 0 && <p className="empty">Nothing was ever read of it. Read it now, or import what an inventory says.</p>}
      <table>
        <tbody>
          {view.readings.map((reading) => {
            const other = differing.get(reading.key);
            return (
              <tr key={reading.key}>
                <td className="nowrap">
                  <code>{reading.key}</code>
                </td>
                <td className={reading.state === 'value' ? '' : 'quiet'}>
                  {reading.shown}
                  {other && (
                    <div className="differs">
                      {other.source} said {other.shown}, {span(other.ageSeconds)} ago
                    </div>
                  )}
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
