import { Autocomplete, NumberInput, SegmentedControl, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { Link } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { failed, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { useCommand } from '../parts/useCommand';
import { clockMoment, inViewersZone, many, time, word } from '../parts/words';
import { useMay } from '../session/useSession';

type Case = Schemas['SupportCaseView'];

const SHOWN_MACHINES = 8;

/** The cases about a machine or one of its runs, and a button that records a new one. */
export function CasesOfMachine({ machine, run, offer = true }: { machine: string; run?: string; offer?: boolean }) {
  const may = useMay();
  const [opening, setOpening] = useState(false);
  const cases = useQuery({
    queryKey: ['support-cases', machine],
    queryFn: () => take(api.GET('/api/v1/support-cases', { params: { query: { machine } } })),
  });
  if (failed(cases)) return <Problem of={cases.error} />;
  const items = (cases.data?.items ?? []).filter((one) => run === undefined || one.run === run);
  const mayOpen = offer && may('OpenSupportCase');
  if (items.length === 0 && !mayOpen) return null;
  return (
    <section className="card" aria-label="Support cases">
      <h2>
        Support cases{' '}
        {mayOpen && (
          <button type="button" className="plain link" onClick={() => setOpening(true)}>
            Record a case …
          </button>
        )}
      </h2>
      {items.length === 0 && <p className="empty">None.</p>}
      <ul className="rows">
        {items.map((one) => (
          <li key={one.id}>
            <CaseWords of={one} />
            <CaseActions of={one} />
          </li>
        ))}
      </ul>
      {opening && <OpenDialog machines={[machine]} run={run} onClose={() => setOpening(false)} />}
    </section>
  );
}

/** Who has to act next, as people read it. */
export function CaseState({ of }: { of: Case }) {
  if (of.state === 'with-us') return <strong className="held">we have to act</strong>;
  return (
    <span className={of.state === 'closed' ? 'quiet' : ''}>{of.state === 'with-support' ? 'waiting for support' : word(of.state)}</span>
  );
}

function CaseWords({ of }: { of: Case }) {
  const last = of.notes.at(-1);
  return (
    <div>
      <Link to={`/support-cases/${of.id}`}>{of.reference}</Link> with {of.with}: <CaseState of={of} />
      <div>{of.about}</div>
      <div className="quiet">
        {last && `${inViewersZone(last.text)} (${last.by}, ${time(last.at)})`}
        {!last && `recorded by ${of.openedBy}, ${time(of.opened)}`}
      </div>
      <NextAppointment of={of} />
    </div>
  );
}

/** The appointment of an open case; one that is over asks what came of it. */
export function NextAppointment({ of }: { of: Case }) {
  if (!of.appointment || of.closed) return null;
  if (of.appointment.over) return <div className="held">Appointment was {time(of.appointment.from)}: note what came of it</div>;
  return (
    <div>
      Appointment {time(of.appointment.from)}, {minutesOf(of.appointment)} min
      {of.appointment.crew && `, with ${of.appointment.crew}`}
    </div>
  );
}

/** The machines of a case, as links. */
export function CaseMachines({ of }: { of: Case }) {
  return (
    <>
      {of.machines.slice(0, SHOWN_MACHINES).map((name) => (
        <span key={name}>
          <MachineLink name={name} />{' '}
        </span>
      ))}
      {of.machines.length > SHOWN_MACHINES && <span className="quiet">and {of.machines.length - SHOWN_MACHINES} more</span>}
    </>
  );
}

type Act = 'note' | 'book' | 'cancel' | 'close';

/** What can be done with an open case. */
export function CaseActions({ of }: { of: Case }) {
  const may = useMay();
  const [asked, setAsked] = useState<Act | null>(null);
  if (of.closed || !may('NoteSupportCase')) return null;
  const close = () => setAsked(null);
  const booked = bookedOf(of);
  const acts: [Act, string][] = [
    ['note', 'Add a note'],
    ['book', booked ? 'Change appointment' : 'Book appointment'],
    ...(booked ? [['cancel', 'Cancel appointment'] as [Act, string]] : []),
    ['close', 'Close case'],
  ];
  return (
    <p className="targets">
      {acts.map(([act, label]) => (
        <button key={act} type="button" className="plain link" onClick={() => setAsked(act)}>
          {label}
        </button>
      ))}
      {asked === 'note' && <NoteDialog of={of} onClose={close} />}
      {asked === 'book' && <BookDialog of={of} onClose={close} />}
      {asked === 'cancel' && <CancelDialog of={of} onClose={close} />}
      {asked === 'close' && <CloseDialog of={of} onClose={close} />}
    </p>
  );
}

interface DialogProps {
  of: Case;
  onClose: () => void;
}

const path = (of: Case) => ({ path: { id: of.id } });

function NoteDialog({ of, onClose }: DialogProps) {
  const [state, setState] = useState(of.state);
  const note = useCommand(
    (text: string) => take(api.POST('/api/v1/support-cases/{id}/notes', { params: path(of), body: { text, state } })),
    onClose,
  );
  return (
    <ReasonDialog
      title={`Case ${of.reference}`}
      what="Who has to act next?"
      ask="What was done or said"
      act="Add note"
      busy={note.isPending}
      error={note.error}
      onAct={(text) => note.mutate(text)}
      onClose={onClose}
    >
      <SegmentedControl
        aria-label="Who has to act next"
        value={state}
        onChange={setState}
        data={[
          { value: 'with-us', label: 'We do' },
          { value: 'with-support', label: 'Support does' },
        ]}
      />
    </ReasonDialog>
  );
}

function BookDialog({ of, onClose }: DialogProps) {
  const booked = bookedOf(of);
  const [from, setFrom] = useState(booked ? clockMoment(booked.from) : '');
  const [minutes, setMinutes] = useState<number>(booked ? minutesOf(booked) : 60);
  const [crew, setCrew] = useState(booked?.crew ?? '');
  const crews = useCrews(of.machines[0]);
  const book = useCommand(
    () =>
      take(
        api.PUT('/api/v1/support-cases/{id}/appointment', {
          params: path(of),
          body: { from: new Date(from).toISOString(), minutes, crew: crew.trim() || null },
        }),
      ),
    onClose,
  );
  return (
    <ReasonDialog
      title={`Appointment for case ${of.reference}`}
      what="When does somebody work on it?"
      without
      act="Book"
      ready={from !== '' && minutes > 0}
      busy={book.isPending}
      error={book.error}
      onAct={() => book.mutate(undefined)}
      onClose={onClose}
    >
      <TextInput
        type="datetime-local"
        label="Start"
        description={`Times are in ${Intl.DateTimeFormat().resolvedOptions().timeZone}.`}
        value={from}
        onChange={(e) => setFrom(e.currentTarget.value)}
        data-autofocus
      />
      <NumberInput label="Minutes" min={1} max={1440} value={minutes} onChange={(value) => setMinutes(Number(value))} mt="sm" />
      {crews.length > 0 && (
        <Autocomplete
          label="Crew"
          description="Booked for that time, so that no upgrade gets it; empty where none of yours has to be there."
          data={crews}
          value={crew}
          onChange={setCrew}
          openOnFocus={false}
          mt="sm"
        />
      )}
    </ReasonDialog>
  );
}

/** The appointment that is to come. */
const bookedOf = (of: Case) => (of.appointment?.over ? null : of.appointment);

const minutesOf = (of: Schemas['AppointmentView']) => Math.round((Date.parse(of.to) - Date.parse(of.from)) / 60_000);

/** The crews of the plan that a machine is in. */
function useCrews(machine: string | undefined): string[] {
  const view = useQuery({
    queryKey: ['machine', machine],
    enabled: machine !== undefined,
    queryFn: () => take(api.GET('/api/v1/machines/{name}', { params: { path: { name: machine as string } } })),
  });
  const plan = view.data?.places[0]?.plan;
  const stored = useQuery({
    queryKey: ['plan', plan],
    enabled: plan !== undefined,
    queryFn: () => take(api.GET('/api/v1/plans/{name}', { params: { path: { name: plan as string } } })),
  });
  return stored.data?.planning.crews.map((crew) => crew.name) ?? [];
}

function CancelDialog({ of, onClose }: DialogProps) {
  const cancel = useCommand(
    (reason: string) => take(api.POST('/api/v1/support-cases/{id}/appointment/cancel', { params: path(of), body: { reason } })),
    onClose,
  );
  return (
    <ReasonDialog
      title={`Cancel the appointment for case ${of.reference}`}
      what={`${time(of.appointment?.from)}${of.appointment?.crew ? `, with ${of.appointment.crew}, which is free again` : ''}.`}
      act="Cancel appointment"
      busy={cancel.isPending}
      error={cancel.error}
      onAct={(reason) => cancel.mutate(reason)}
      onClose={onClose}
    />
  );
}

function CloseDialog({ of, onClose }: DialogProps) {
  const close = useCommand(
    (result: string) => take(api.POST('/api/v1/support-cases/{id}/close', { params: path(of), body: { result } })),
    onClose,
  );
  return (
    <ReasonDialog
      title={`Close case ${of.reference}`}
      what={`It is about ${of.machines.length === 1 ? of.machines[0] : many(of.machines.length, 'machine')}.`}
      ask="What came of it"
      act="Close case"
      busy={close.isPending}
      error={close.error}
      onAct={(result) => close.mutate(result)}
      onClose={onClose}
    />
  );
}

/** Records a case that was opened with support, about one machine or many. */
export function OpenDialog({ machines, run, onClose }: { machines: string[]; run?: string; onClose: () => void }) {
  const [reference, setReference] = useState('');
  const [support, setSupport] = useState('');
  const known = useQuery({ queryKey: ['support-cases'], queryFn: () => take(api.GET('/api/v1/support-cases')) });
  const open = useCommand(
    (about: string) => take(api.POST('/api/v1/support-cases', { body: { reference, with: support, about, machines, run: run ?? null } })),
    onClose,
  );
  const what: ReactNode =
    machines.length === 1
      ? 'Open the case with support first; the support bundle of the machine has what they need.'
      : `The case is about ${many(machines.length, 'machine')}: ${machines.slice(0, SHOWN_MACHINES).join(', ')}${machines.length > SHOWN_MACHINES ? ' …' : ''}.`;
  return (
    <ReasonDialog
      title={machines.length === 1 ? `Support case about ${machines[0]}` : `Support case about ${many(machines.length, 'machine')}`}
      what={what}
      ask="What it is about"
      act="Record case"
      ready={reference.trim() !== '' && support.trim() !== ''}
      busy={open.isPending}
      error={open.error}
      onAct={(about) => open.mutate(about)}
      onClose={onClose}
    >
      <TextInput
        label="Number that support gave it"
        value={reference}
        onChange={(e) => setReference(e.currentTarget.value)}
        data-autofocus
        maxLength={500}
      />
      <Autocomplete
        label="With whom"
        data={[...new Set(known.data?.items.map((one) => one.with) ?? [])]}
        value={support}
        onChange={setSupport}
        openOnFocus={false}
        maxLength={500}
        mt="sm"
      />
    </ReasonDialog>
  );
}
