import { Button, Checkbox, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { RunProgress, ToGo } from '../parts/RunProgress';
import { Status } from '../parts/Status';
import { bytes, many, span, time, word } from '../parts/words';
import { useMay } from '../session/useSession';
import { CasesOfMachine } from '../support-cases/SupportCases';
import { AnswerButtons } from './AnswerButtons';
import { FollowUpsOfRun } from './FollowUps';
import { Outputs } from './Outputs';
import { SavedFiles } from './SavedFiles';

export function RunPage() {
  const { run: id = '' } = useParams();
  const run = useQuery({
    queryKey: ['run', id],
    queryFn: () => take(api.GET('/api/v1/runs/{run}', { params: { path: { run: id } } })),
    refetchInterval: 3000,
  });
  if (failed(run)) return <Problem of={run.error} />;
  if (!run.data) return <Loading />;
  const view = run.data;
  const r = view.run;
  return (
    <>
      <h1>
        <MachineLink name={r.machine} />: <Status of={r.status} />
        {r.step && r.status !== 'parked' && <>, {r.step}</>}
      </h1>
      <p className="under">
        run {r.run} · {view.hop} by {word(r.method)} · plan <Link to={`/plans/${r.plan}`}>{r.plan}</Link>, wave {r.wave} · {r.site} · slot{' '}
        {time(r.slotStart)}
        {view.missedSlots > 0 && ` · ${many(view.missedSlots, 'missed slot')}`}{' '}
        {view.rollbackUntil ? (
          <RollbackPeriod view={view} />
        ) : (
          !r.closed && ` · ${view.turned ? 'past the point of no return' : 'can be cancelled'}`
        )}
        {view.reclaimedBytes !== null && ` · ${bytes(view.reclaimedBytes)} reclaimed after the rollback period`}
      </p>
      {view.successor && (
        <p className="under">
          Side by side: <MachineLink name={view.successor} /> takes the place of {r.machine}
        </p>
      )}
      {r.asked && <Asked run={r} asked={r.asked} />}
      {r.parked && (
        <div className="parked-box" role="status">
          <strong>Waiting for a decision</strong> {r.parked}{' '}
          <Link to={`/machines/${encodeURIComponent(r.machine)}`}>Checks and readings of the machine</Link>
        </div>
      )}
      {r.closed && r.outcome !== 'done' && (
        <div className="parked-box" role="status">
          <strong>{word(r.outcome as string)}</strong> {time(r.closed)}: {r.reason}
          {view.rollbackCategory && ` (${view.rollbackCategory})`}
        </div>
      )}
      {r.suspended.length > 0 && (
        <div className="suspended-box" role="status">
          <strong>Suspended on this machine:</strong> {r.suspended.join(', ')}.{' '}
          {r.closed ? 'Resume it by hand, then close the follow-up.' : 'The run resumes it, however it ends.'}
        </div>
      )}
      {r.noContact && (
        <div className="parked-box" role="status">
          <strong>No contact</strong> since {time(r.noContact.since)} ({span(r.noContact.seconds)}): {r.noContact.why}
        </div>
      )}
      <div className="progress-line">
        <RunProgress run={r} />
        <span className="quiet">
          {r.status === 'running' && `${span(r.elapsedSeconds)} so far, `}
          {r.usual && `usually ${span(r.usual.seconds)}, 95 of 100 within ${span(r.usual.longestSeconds)}${learnt(r.usual)}, `}
          {r.begins && `begins in the machine’s next window, ${time(r.begins)}`}
          <ToGo run={r} />
          {r.note && !r.asked && ` · ${r.note}`}
        </span>
        <Decisions view={view} />
      </div>
      <div className="columns wide-right">
        <Steps view={view} />
        <div className="stack">
          {view.comparisons.map((compared) => (
            <Comparison key={compared.step} compared={compared} />
          ))}
          <FollowUpsOfRun view={view} />
          <CasesOfMachine machine={r.machine} run={r.run} offer={r.status === 'parked'} />
          <SavedFiles run={r.run} />
          <Outputs run={r.run} />
          <Log view={view} />
        </div>
      </div>
    </>
  );
}

const learnt = (usual: Schemas['UsualView']) => (usual.measured > 0 ? ` (learnt from ${usual.measured})` : '');

function Asked({ run, asked }: { run: Schemas['RunRow']; asked: Schemas['AskedView'] }) {
  return (
    <div className="parked-box" role="status">
      <strong>Waiting for {asked.who}</strong> since {time(asked.since)}, needed by {time(asked.due)}
      <p>{asked.words}</p>
      <AnswerButtons runs={[run]} start />
    </div>
  );
}

const asks: Record<string, string> = {
  retry: 'Retry',
  wait: 'Keep waiting',
  cancel: 'Cancel this upgrade',
  'roll-back': 'Roll back to the previous release',
  'give-up': 'Mark as failed',
  accept: 'Accept the differences',
};
const says: Record<string, string> = {
  retry: 'Repeats the step or gate at which the run is parked.',
  wait: 'The running step gets its whole time limit again.',
  cancel: 'A step that is running finishes first. Nothing of the new release has been installed.',
  'roll-back': 'Undoes the upgrade by the method’s rollback.',
  'give-up': 'Closes the run as failed. Nothing more is done on the machine; past the point of no return it counts as partly upgraded.',
  accept: 'Goes on in spite of what differs from before. Each kind of difference becomes a follow-up.',
};

/** Until when the upgrade can be rolled back, and a way to keep that for longer. */
function RollbackPeriod({ view }: { view: Schemas['RunView'] }) {
  const queries = useQueryClient();
  const may = useMay();
  const [asked, setAsked] = useState(false);
  const [until, setUntil] = useState('');
  const keep = useMutation({
    mutationFn: (reason: string) =>
      take(api.POST('/api/v1/runs/{run}/rollback-period', { params: { path: { run: view.run.run } }, body: { until, reason } })),
    onSuccess: () => {
      setAsked(false);
      queries.invalidateQueries();
    },
  });
  return (
    <>
      · can be rolled back until {time(view.rollbackUntil)}{' '}
      {view.rollbackUntilAtMost && may('KeepRollback') && (
        <button type="button" className="plain link" onClick={() => setAsked(true)}>
          Keep it longer
        </button>
      )}
      {asked && (
        <ReasonDialog
          title={`Keep the rollback: ${view.run.machine}`}
          what={`It ends ${time(view.rollbackUntil)} and can be extended until ${time(view.rollbackUntilAtMost)}.`}
          act="Keep it"
          ready={until !== ''}
          busy={keep.isPending}
          error={keep.error}
          onAct={(reason) => keep.mutate(reason)}
          onClose={() => setAsked(false)}
        >
          <TextInput
            label="Until"
            description="The last day of the rollback period."
            type="date"
            min={view.rollbackUntil?.slice(0, 10)}
            max={view.rollbackUntilAtMost?.slice(0, 10)}
            value={until}
            onChange={(e) => setUntil(e.currentTarget.value)}
            data-autofocus
          />
        </ReasonDialog>
      )}
    </>
  );
}

function Decisions({ view }: { view: Schemas['RunView'] }) {
  const queries = useQueryClient();
  const may = useMay();
  const [asked, setAsked] = useState<string | null>(null);
  const [now, setNow] = useState(false);
  const decide = useMutation({
    mutationFn: (reason: string) =>
      take(
        api.POST('/api/v1/runs/{run}/decisions', {
          params: { path: { run: view.run.run } },
          body: { decision: asked as string, reason, now },
        }),
      ),
    onSuccess: () => {
      setAsked(null);
      queries.invalidateQueries();
    },
  });
  const begins = view.rollbackBegins
    ? `It begins in the machine’s next window, ${time(view.rollbackBegins)}.`
    : 'The machine has no window for it in the next 60 days.';
  return (
    <span className="actions">
      {(may('DecideRun') ? view.possible : []).map((decision, i) => (
        <Button
          key={decision}
          variant={i === 0 && view.run.parked ? 'filled' : 'default'}
          className={i === 0 && view.run.parked ? 'acts' : ''}
          onClick={() => {
            setNow(false);
            setAsked(decision);
          }}
        >
          {asks[decision] ?? word(decision)}
        </Button>
      ))}
      {asked && (
        <ReasonDialog
          title={`${asks[asked] ?? word(asked)}: ${view.run.machine}`}
          what={asked === 'roll-back' ? `${says[asked]} ${begins}` : (says[asked] ?? '')}
          act={asked === 'roll-back' ? (now ? 'Roll back at once' : 'Roll back in its next window') : (asks[asked] ?? word(asked))}
          ready={asked !== 'roll-back' || now || view.rollbackBegins !== null}
          busy={decide.isPending}
          error={decide.error}
          onAct={(reason) => decide.mutate(reason)}
          onClose={() => setAsked(null)}
        >
          {asked === 'roll-back' && (
            <Checkbox label="Begin at once, outside of its window" checked={now} onChange={(e) => setNow(e.currentTarget.checked)} />
          )}
        </ReasonDialog>
      )}
    </span>
  );
}

const stepShapes: Record<string, string> = { done: '■', running: '▶', failed: '✕', 'to-come': '·', 'not-done': '–' };

function Steps({ view }: { view: Schemas['RunView'] }) {
  return (
    <section className="card">
      <h2>Steps</h2>
      <ol className="steps">
        {view.steps.map((step) => (
          <li key={step.name} className={`is-step-${step.state}`}>
            <span className="shape" aria-hidden="true">
              {stepShapes[step.state] ?? '·'}
            </span>
            <div>
              {step.title} {step.machine && <span className="quiet">on {step.machine}</span>}{' '}
              {step.attempts > 1 && <span className="quiet">attempt {step.attempts}</span>}
              <div className="quiet">
                {word(step.phase)}, {word(step.state)}, usually {span(step.usualSeconds)}
                {step.pointOfNoReturn && ' · point of no return'}
              </div>
            </div>
          </li>
        ))}
      </ol>
    </section>
  );
}

const changes: Record<string, string> = { missing: 'missing', added: 'new', changed: 'changed' };

function Comparison({ compared }: { compared: Schemas['DifferencesView'] }) {
  return (
    <section className="card">
      <h2>
        {compared.title}{' '}
        <span className="quiet">
          {compared.failing} to decide about, {compared.followUps} to follow up, {compared.ignored} expected
        </span>
      </h2>
      {compared.differences.length > 0 && (
        <table>
          <thead>
            <tr>
              <th>What</th>
              <th>Change</th>
              <th>Before</th>
              <th>After</th>
              <th>Leads to</th>
            </tr>
          </thead>
          <tbody>
            {compared.differences.map((d) => (
              <tr key={`${d.kind} ${d.name}`}>
                <td>
                  {d.kind} <code>{d.name}</code>
                </td>
                <td>{changes[d.change] ?? d.change}</td>
                <td>{d.before || '–'}</td>
                <td>{d.after || '–'}</td>
                <td>{d.result === 'fail' ? <strong>a decision</strong> : 'a follow-up'}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

function Log({ view }: { view: Schemas['RunView'] }) {
  return (
    <section className="card">
      <h2>
        Log <span className="quiet">{view.log.length} events, newest first</span>
      </h2>
      <ol className="log">
        {view.log.toReversed().map((line) => (
          <li key={line.number}>
            <details>
              <summary>
                <span className="quiet nowrap">{time(line.at)}</span> <span>{line.text}</span>
                {line.actor !== 'worker' && <span className="quiet"> by {line.actor}</span>}
              </summary>
              <pre>{line.detail}</pre>
            </details>
          </li>
        ))}
      </ol>
    </section>
  );
}
