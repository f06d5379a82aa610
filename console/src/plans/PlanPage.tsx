import { Button, Select } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { Status, statuses } from '../parts/Status';
import { amount, date, time, word } from '../parts/words';
import { useMay } from '../session/useSession';
import { MemberActions } from './MemberActions';
import { Planning } from './Planning';
import { TimeDialog } from './TimeDialog';
import { WaveDialog } from './WaveDialog';

export function PlanPage() {
  const { name = '' } = useParams();
  const plan = useQuery({ queryKey: ['plan', name], queryFn: () => take(api.GET('/api/v1/plans/{name}', { params: { path: { name } } })) });
  if (failed(plan)) return <Problem of={plan.error} />;
  if (!plan.data) return <Loading />;
  const view = plan.data;
  return (
    <>
      <div className="title">
        <h1>
          {name} to {view.plan.target}: <b>{view.plan.held ? 'on hold' : word(view.plan.state)}</b>, {amount(view.plan.machines)} machines
          in {view.waves.length} waves
        </h1>
        <PlanActions plan={view.plan} />
      </div>
      <p className="under">
        {view.plan.held && <strong className="held">{view.plan.held} · </strong>}
        <code>{view.scope}</code> · preserves {view.preserves} · {view.methods.map((m) => word(m)).join(', then ')} ·{' '}
        {view.limits.all === null ? 'any number' : `at most ${view.limits.all}`} at once
        {view.limits.site !== null && `, ${view.limits.site} at one site`}
        {view.plan.deadline && ` · deadline ${date(view.plan.deadline)}`}
        {view.planning.changeRecord && ` · change record ${view.planning.changeRecord}`} · revision {view.planning.revision} by{' '}
        {view.planning.revisedBy}
      </p>
      {view.trouble && (
        <p className="held" role="alert">
          <strong>This plan is stuck.</strong> {view.trouble}
        </p>
      )}
      {(view.plan.state === 'drafted' || view.plan.held) && <Acknowledgements plan={name} />}
      <Waves view={view} />
      <Planning view={view} />
      {view.undecided.length > 0 && (
        <section className="card below">
          <h2>Scope unknown (missing data)</h2>
          <ul className="rows">
            {view.undecided.map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ul>
        </section>
      )}
      <Members view={view} />
    </>
  );
}

const terms = 'licence-terms';

/** What must be acknowledged before the plan starts. */
function Acknowledgements({ plan }: { plan: string }) {
  const queries = useQueryClient();
  const may = useMay();
  // The names of what is to be acknowledged; null while nothing is.
  const [giving, setGiving] = useState<string[] | null>(null);
  const path = { params: { path: { name: plan } } };
  const all = useQuery({
    queryKey: ['acknowledgements', plan],
    queryFn: () => take(api.GET('/api/v1/plans/{name}/acknowledgements', path)),
  });
  const give = useMutation({
    mutationFn: (reason: string) => take(api.POST('/api/v1/plans/{name}/acknowledgements', { ...path, body: { names: giving, reason } })),
    onSuccess: () => {
      setGiving(null);
      queries.invalidateQueries();
    },
  });
  if (failed(all)) return <Problem of={all.error} />;
  const open = all.data?.filter((a) => a.by === null) ?? [];
  const asked = open.filter((a) => giving?.includes(a.name));
  if (!all.data || all.data.length === 0) return null;
  return (
    <section className="card above">
      <h2>
        <span>Before it starts: {open.length === 0 ? 'all is acknowledged' : `${open.length} to acknowledge`}</span>
        {open.length > 0 && may('Acknowledge') && (
          <Button className="acts" size="xs" onClick={() => setGiving(open.map((a) => a.name))}>
            Acknowledge all
          </Button>
        )}
      </h2>
      <ul className="rows">
        {all.data.map((a) => (
          <li key={`${a.kind}/${a.name}`}>
            <b>{a.title}</b>{' '}
            <span className="quiet">
              {word(a.kind)}, {amount(a.machines)} machines
              {a.by && ` · ${a.kind === terms ? 'accepted' : 'acknowledged'} by ${a.by}: ${a.reason}`}
            </span>{' '}
            {!a.by && may('Acknowledge') && (
              <button type="button" className="plain link" onClick={() => setGiving([a.name])}>
                {a.kind === terms ? 'Accept' : 'Acknowledge'}
              </button>
            )}
            {a.kind === terms ? (
              <details>
                <summary>Read the terms</summary>
                <pre className="terms">{a.words}</pre>
              </details>
            ) : (
              <div>{a.words}</div>
            )}
          </li>
        ))}
      </ul>
      {giving && (
        <ReasonDialog
          title={giving.length === 1 ? (asked[0]?.title ?? '') : `Acknowledge ${giving.length} things`}
          what={[
            asked.some((a) => a.kind !== terms) && 'The plan may start despite what is listed here.',
            asked.some((a) => a.kind === terms) && 'You accept the licence terms for all machines of the plan; your name stays on record.',
          ]
            .filter(Boolean)
            .join(' ')}
          act={asked.every((a) => a.kind === terms) ? 'Accept' : 'Acknowledge'}
          busy={give.isPending}
          error={give.error}
          onAct={(reason) => give.mutate(reason)}
          onClose={() => setGiving(null)}
        />
      )}
    </section>
  );
}

function PlanActions({ plan }: { plan: Schemas['PlanRow'] }) {
  const queries = useQueryClient();
  const may = useMay();
  const go = useNavigate();
  const [holding, setHolding] = useState(false);
  const [discarding, setDiscarding] = useState(false);
  const path = { params: { path: { name: plan.name } } };
  const done = () => {
    setHolding(false);
    queries.invalidateQueries();
  };
  const start = useMutation({ mutationFn: () => take(api.POST('/api/v1/plans/{name}/start', path)), onSuccess: done });
  const hold = useMutation({
    mutationFn: (reason: string) => take(api.POST('/api/v1/plans/{name}/hold', { ...path, body: { reason } })),
    onSuccess: done,
  });
  const discard = useMutation({
    mutationFn: (reason: string) => take(api.POST('/api/v1/plans/{name}/discard', { ...path, body: { reason } })),
    onSuccess: () => {
      queries.invalidateQueries({ queryKey: ['plans'] });
      go('/plans');
    },
  });
  if (plan.state === 'ended') return null;
  return (
    <div className="title-acts">
      {(plan.state === 'drafted' || plan.held) && may('StartPlan') && (
        <Button className="acts" loading={start.isPending} onClick={() => start.mutate()}>
          {plan.held ? 'Resume' : 'Start'}
        </Button>
      )}
      {may('LoadPlan') && (
        <Button variant="default" component={Link} to={`/plans/${plan.name}/edit`}>
          Edit
        </Button>
      )}
      {plan.state === 'drafted' && may('DiscardPlan') && (
        <Button variant="default" onClick={() => setDiscarding(true)}>
          Delete this draft …
        </Button>
      )}
      {plan.state !== 'drafted' && !plan.held && may('HoldPlan') && (
        <Button variant="default" onClick={() => setHolding(true)}>
          Hold
        </Button>
      )}
      {start.error && <Problem of={start.error} />}
      {discarding && (
        <ReasonDialog
          title={`Delete the draft ${plan.name}`}
          what="The plan was never started. Its waves, rehearsals and share links are deleted; the audit log keeps its text."
          act="Delete this draft"
          busy={discard.isPending}
          error={discard.error}
          onAct={(reason) => discard.mutate(reason)}
          onClose={() => setDiscarding(false)}
        />
      )}
      {holding && (
        <ReasonDialog
          title={`Hold ${plan.name}`}
          what="No further slot and no further wave begins. Upgrades that are running finish."
          act="Hold the plan"
          busy={hold.isPending}
          error={hold.error}
          onAct={(reason) => hold.mutate(reason)}
          onClose={() => setHolding(false)}
        />
      )}
    </div>
  );
}

function Waves({ view }: { view: Schemas['PlanView'] }) {
  const [params] = useSearchParams();
  const may = useMay();
  const [beginning, setBeginning] = useState<Schemas['WaveView']>();
  return (
    <section className="card">
      <table>
        <thead>
          <tr>
            <th>Wave</th>
            <th>State</th>
            <th className="num">machines</th>
            <th>Status</th>
            <th>Baseline</th>
            <th>Advance</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {view.waves.map((wave) => (
            <tr key={wave.number} className={params.get('wave') === String(wave.number) ? 'chosen' : ''}>
              <td>
                <Link to={`?wave=${wave.number}`}>{wave.name}</Link>
              </td>
              <td>{word(wave.state)}</td>
              <td className="num">{amount(wave.machines)}</td>
              <td>
                <span className="tally">
                  {statuses
                    .filter(([status]) => (wave.tally[status] ?? 0) > 0)
                    .map(([status]) => (
                      <Link key={status} to={`?wave=${wave.number}&status=${status}`}>
                        {amount(wave.tally[status] ?? 0)} <Status of={status} />
                      </Link>
                    ))}
                </span>
              </td>
              <td className="nowrap">{wave.plannedFrom ? `${date(wave.plannedFrom)} – ${date(wave.plannedTo)}` : ''}</td>
              <td className="quiet">{wave.why}</td>
              <td className="num">
                {wave.state === 'waiting' && may('LoadPlan') && (
                  <button
                    type="button"
                    className="plain link"
                    aria-label={`Time when ${wave.name} begins`}
                    onClick={() => setBeginning(wave)}
                  >
                    Time
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {beginning && (
        <WaveDialog plan={view.plan.name} number={beginning.number} wave={beginning.name} onClose={() => setBeginning(undefined)} />
      )}
    </section>
  );
}

function Members({ view }: { view: Schemas['PlanView'] }) {
  const [params] = useSearchParams();
  const status = params.get('status') ?? undefined;
  const wave = params.get('wave') ?? undefined;
  const members = useQuery({
    queryKey: ['members', view.plan.name, status, wave],
    queryFn: () =>
      take(
        api.GET('/api/v1/plans/{name}/members', {
          params: { path: { name: view.plan.name }, query: { status, wave: wave === undefined ? undefined : Number(wave), limit: 1000 } },
        }),
      ),
  });
  const may = useMay();
  const [timing, setTiming] = useState<string | null>(null);
  const [moving, setMoving] = useState<Schemas['MemberRow'] | null>(null);
  if (failed(members)) return <Problem of={members.error} />;
  if (!members.data) return <Loading />;
  const what = [status && word(status), wave && `of wave ${view.waves[Number(wave) - 1]?.name ?? wave}`].filter(Boolean).join(' ');
  return (
    <section className="card below">
      <h2>
        <span>
          {amount(members.data.total)} machines {what}
        </span>
        {what && <Link to="?">show all</Link>}
      </h2>
      {members.data.total === 0 && <p className="empty">None.</p>}
      <table>
        <thead>
          <tr>
            <th>Machine</th>
            <th>Site</th>
            <th>Status</th>
            <th>Method</th>
            <th>Slot</th>
            <th>Why</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {members.data.items.map((m) => (
            <tr key={m.id}>
              <td className="nowrap">
                <MachineLink name={m.name} />
              </td>
              <td className="nowrap">{m.site}</td>
              <td className="nowrap">
                <Status of={m.status} />
              </td>
              <td className="nowrap">{word(m.method)}</td>
              <td className="nowrap">
                <SlotTime of={m} />
                {m.crew && <span className="quiet"> {m.crew}</span>}
              </td>
              <td className="quiet">
                {m.exemption
                  ? `${m.exemption}: ${m.exemptionReason} (${m.exemptedBy})`
                  : [m.why, m.change && `It would take ${m.change}.`].filter(Boolean).join('. ')}
                {m.missed > 0 && ` Missed ${m.missed === 1 ? 'a slot' : `${m.missed} slots`}.`}
                {m.moved && ` Moved here by ${m.moved}.`}
              </td>
              <td className="nowrap num">
                {(m.status === 'ready' || m.status === 'scheduled') && may('RescheduleMachine') && (
                  <button type="button" className="plain link" aria-label={`Reschedule ${m.name}`} onClick={() => setTiming(m.name)}>
                    Reschedule
                  </button>
                )}{' '}
                {m.run && <Link to={`/runs/${m.run}`}>{m.run}</Link>}{' '}
                {!m.run && !m.exemption && view.waves.length > 1 && may('MoveMachine') && (
                  <button type="button" className="plain link" aria-label={`Move ${m.name}`} onClick={() => setMoving(m)}>
                    Move
                  </button>
                )}{' '}
                <MemberActions plan={view.plan.name} machine={m.name} status={m.status} hasRun={m.run !== null} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {timing && <TimeDialog plan={view.plan.name} machine={timing} onClose={() => setTiming(null)} />}
      {moving && <MoveDialog view={view} member={moving} onClose={() => setMoving(null)} />}
    </section>
  );
}

/** A machine's slot, or in grey the time that is planned for it. */
function SlotTime({ of }: { of: Schemas['MemberRow'] }) {
  const at = of.slotStart ?? of.chosen ?? of.plannedStart;
  if (!at) return null;
  const chosen = of.chosen !== null && Date.parse(of.chosen) === Date.parse(at);
  return (
    <span className={of.slotStart ? undefined : 'quiet'} title={chosen ? `Scheduled by ${of.chosenBy}` : undefined}>
      {of.slotStart ? time(at) : `(${time(at)})`}
      {chosen && ' manual'}
    </span>
  );
}

function MoveDialog({ view, member, onClose }: { view: Schemas['PlanView']; member: Schemas['MemberRow']; onClose: () => void }) {
  const queries = useQueryClient();
  const others = view.waves.filter((w) => w.number !== member.wave).map((w) => w.name);
  const [wave, setWave] = useState<string | null>(others[0] ?? null);
  const move = useMutation({
    mutationFn: (reason: string) =>
      take(
        api.POST('/api/v1/plans/{name}/members/{machine}/move', {
          params: { path: { name: view.plan.name, machine: member.name } },
          body: { wave: wave ?? '', reason },
        }),
      ),
    onSuccess: () => {
      queries.invalidateQueries();
      onClose();
    },
  });
  return (
    <ReasonDialog
      title={`Move ${member.name} out of wave ${member.waveName}`}
      what="It loses its slot and gets one with its new wave. An approved plan needs another approval."
      act="Move"
      busy={move.isPending}
      error={move.error}
      ready={wave !== null}
      onAct={(reason) => move.mutate(reason)}
      onClose={onClose}
    >
      <Select label="To wave" data={others} value={wave} onChange={setWave} allowDeselect={false} mt="sm" />
    </ReasonDialog>
  );
}
