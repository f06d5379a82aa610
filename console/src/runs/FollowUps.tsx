import { Checkbox, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { ReasonDialog } from '../parts/ReasonDialog';
import { useBulk } from '../parts/useBulk';
import { date, isToCome, many, time } from '../parts/words';
import { useMay } from '../session/useSession';

type OfRun = { run: string; followUp: Schemas['FollowUpView'] };

const namesOf = (all: OfRun[]) => all.map((one) => ({ run: one.run, name: one.followUp.name }));

/** What all have in common; empty where they differ or have nothing. */
function common(all: OfRun[], read: (one: Schemas['FollowUpView']) => string | null): string {
  const [first = '', ...others] = new Set(all.map((one) => read(one.followUp) ?? ''));
  return others.length > 0 ? '' : first;
}

/** The follow-ups of a run, and a button that adds one. */
export function FollowUpsOfRun({ view }: { view: Schemas['RunView'] }) {
  const may = useMay();
  const [adding, setAdding] = useState(false);
  const { run } = view.run;
  const mayAdd = may('AddFollowUp') && view.turned;
  if (view.followUps.length === 0 && !mayAdd) return null;
  return (
    <section className="card" aria-label="Follow-ups">
      <h2>
        Follow-ups{' '}
        {mayAdd && (
          <button type="button" className="plain link" onClick={() => setAdding(true)}>
            Add
          </button>
        )}
      </h2>
      {view.followUps.length === 0 && <p className="empty">None.</p>}
      <ul className="rows">
        {view.followUps.map((one) => (
          <li key={`${one.name} ${one.opened}`}>
            <div className="split">
              <FollowUpWords of={one} />
              {!one.closed && <FollowUpActions of={[{ run, followUp: one }]} title={one.title} />}
            </div>
          </li>
        ))}
      </ul>
      {adding && <AddDialog run={run} machine={view.run.machine} onClose={() => setAdding(false)} />}
    </section>
  );
}

/** What is left to do, what was found, who is to do it, and by when. */
export function FollowUpWords({ of }: { of: Schemas['FollowUpView'] }) {
  return (
    <div>
      {of.title}
      <div className="quiet">
        {of.seen && (
          <>
            found: <code>{of.seen}</code>.{' '}
          </>
        )}
        {of.addedBy && `Added by ${of.addedBy}, ${time(of.opened)}. `}
        {of.closed ? `Closed by ${of.by}, ${time(of.closed)}: ${of.because}` : of.fix}
        {!of.closed && <ScriptWords of={of.script} />}
      </div>
      {!of.closed && (of.owner || of.due) && (
        <div className={of.overdue ? 'held' : 'quiet'}>
          {of.owner ? `for ${of.owner}` : 'for nobody yet'}
          {of.due && `, due ${date(of.due)}`}
          {of.overdue && ', overdue'}
        </div>
      )}
    </div>
  );
}

/** How the script of a follow-up goes, or that it was not run yet. */
export function ScriptWords({ of }: { of: Schemas['FollowUpScript'] | null }) {
  if (!of) return null;
  if (!of.fix)
    return (
      <div>
        Fixed by the script <code>{of.name}</code>
        {of.restarts && ', which restarts the machine'}.
      </div>
    );
  const how = of.ended ? of.said : of.begins && isToCome(of.begins) ? `begins ${time(of.begins)}` : `running since ${time(of.begins)}`;
  return (
    <div className={of.ended ? 'held' : undefined}>
      <code>{of.name}</code> ({of.fix}): {how}.
    </div>
  );
}

/** Runs the script of one follow-up or many, assigns them, or closes them. */
export function FollowUpActions({ of, title, onDone }: { of: OfRun[]; title: string; onDone?: () => void }) {
  const may = useMay();
  const [asked, setAsked] = useState<'fix' | 'assign' | 'close' | null>(null);
  const byScript = of.filter((one) => one.followUp.script && (!one.followUp.script.fix || one.followUp.script.ended));
  const close = () => setAsked(null);
  const done = () => {
    close();
    onDone?.();
  };
  return (
    <span className="nowrap">
      {may('FixFollowUps') && byScript.length > 0 && (
        <button type="button" className="plain link" onClick={() => setAsked('fix')}>
          Run {byScript.length === 1 ? 'script' : `${byScript.length} scripts`}
        </button>
      )}{' '}
      {may('AssignFollowUps') && (
        <button type="button" className="plain link" onClick={() => setAsked('assign')}>
          Assign
        </button>
      )}{' '}
      {may('CloseFollowUps') && (
        <button type="button" className="plain link" onClick={() => setAsked('close')}>
          Close
        </button>
      )}
      {asked === 'fix' && <ScriptDialog of={byScript} onClose={close} onDone={done} />}
      {asked === 'assign' && <AssignDialog of={of} title={title} onClose={close} onDone={done} />}
      {asked === 'close' && <CloseDialog of={of} title={title} onClose={close} onDone={done} />}
    </span>
  );
}

interface DialogProps {
  of: OfRun[];
  title: string;
  onClose: () => void;
  onDone: () => void;
}

function ScriptDialog({ of, onClose, onDone }: Omit<DialogProps, 'title'>) {
  const [now, setNow] = useState(false);
  const fix = useBulk((reason: string) => take(api.POST('/api/v1/follow-ups/fix', { body: { of: namesOf(of), reason, now } })), onDone);
  const restarting = of.filter((one) => one.followUp.script?.restarts).length;
  const names = [...new Set(of.map((one) => one.followUp.script?.name))].join(', ');
  return (
    <ReasonDialog
      title={of.length > 1 ? many(of.length, 'follow-up') : (of[0]?.followUp.title ?? '')}
      what={
        <>
          <code>{names}</code> {of.length > 1 ? `runs on ${of.length} machines` : 'runs on the machine'}. The follow-up is closed if the
          check is met afterwards.
          {restarting > 0 && !now && ` ${many(restarting, 'machine')} will restart, each in its next window.`}
        </>
      }
      act={of.length > 1 ? `Run ${of.length} scripts` : 'Run the script'}
      busy={fix.isPending}
      error={fix.error}
      onAct={(reason) => fix.mutate(reason)}
      onClose={onClose}
    >
      {restarting > 0 && (
        <Checkbox
          label="Run it at once and restart outside of the window"
          checked={now}
          onChange={(e) => setNow(e.currentTarget.checked)}
        />
      )}
    </ReasonDialog>
  );
}

function CloseDialog({ of, title, onClose, onDone }: DialogProps) {
  const close = useBulk((reason: string) => take(api.POST('/api/v1/follow-ups/close', { body: { of: namesOf(of), reason } })), onDone);
  return (
    <ReasonDialog
      title={title}
      what={of.length > 1 ? `${many(of.length, 'follow-up')} will be closed.` : 'The follow-up will be closed.'}
      ask="What was done"
      act={of.length > 1 ? `Close ${of.length} follow-ups` : 'Close it'}
      busy={close.isPending}
      error={close.error}
      onAct={(reason) => close.mutate(reason)}
      onClose={onClose}
    />
  );
}

function AssignDialog({ of, title, onClose, onDone }: DialogProps) {
  const [before] = useState({ owner: common(of, (one) => one.owner), due: common(of, (one) => one.due) });
  const [owner, setOwner] = useState(before.owner);
  const [due, setDue] = useState(before.due);
  // What is not changed here stays as it is on each of them.
  const changed = { owner: owner.trim() === before.owner ? null : owner.trim(), due: due === before.due ? null : due || null };
  const assign = useBulk(() => take(api.POST('/api/v1/follow-ups/assign', { body: { of: namesOf(of), ...changed } })), onDone);
  return (
    <ReasonDialog
      title={title}
      what={of.length > 1 ? `Who is to do these ${of.length} follow-ups, and by when?` : 'Who is to do it, and by when?'}
      without
      act="Assign"
      ready={changed.owner !== null || changed.due !== null}
      busy={assign.isPending}
      error={assign.error}
      onAct={() => assign.mutate('')}
      onClose={onClose}
    >
      <OwnerAndDue owner={owner} due={due} onOwner={setOwner} onDue={setDue} />
    </ReasonDialog>
  );
}

function AddDialog({ run, machine, onClose }: { run: string; machine: string; onClose: () => void }) {
  const queries = useQueryClient();
  const [owner, setOwner] = useState('');
  const [due, setDue] = useState('');
  const add = useMutation({
    mutationFn: (title: string) =>
      take(
        api.POST('/api/v1/runs/{run}/follow-ups', {
          params: { path: { run } },
          body: { title, owner: owner.trim() || null, due: due || null },
        }),
      ),
    onSuccess: () => {
      queries.invalidateQueries();
      onClose();
    },
  });
  return (
    <ReasonDialog
      title={`Follow-up on ${machine}`}
      what="The run is done once all of its follow-ups are closed."
      ask="What is left to do, or what is wrong"
      describes=""
      act="Add"
      busy={add.isPending}
      error={add.error}
      onAct={(title) => add.mutate(title)}
      onClose={onClose}
    >
      <OwnerAndDue owner={owner} due={due} onOwner={setOwner} onDue={setDue} />
    </ReasonDialog>
  );
}

function OwnerAndDue({
  owner,
  due,
  onOwner,
  onDue,
}: {
  owner: string;
  due: string;
  onOwner: (owner: string) => void;
  onDue: (due: string) => void;
}) {
  return (
    <>
      <TextInput
        label="Who"
        description="A person or a team; empty for nobody."
        value={owner}
        onChange={(e) => onOwner(e.currentTarget.value)}
        data-autofocus
      />
      <TextInput label="Due" type="date" value={due} onChange={(e) => onDue(e.currentTarget.value)} mt="sm" />
    </>
  );
}
