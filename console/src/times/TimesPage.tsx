import { Textarea } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { useParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { DialogActions } from '../parts/ReasonDialog';
import { Status } from '../parts/Status';
import { amount, many, setClock, span, time } from '../parts/words';
import { FreeTimes } from '../plans/FreeTimes';

type Slot = Schemas['SharedSlot'];

/** The slots of an owner, crew or site, for people without an account; owners can reschedule if the plan allows it. */
export function TimesPage() {
  const { secret = '' } = useParams();
  const [choosing, setChoosing] = useState<string>();
  const shared = useQuery({
    queryKey: ['shared', secret],
    refetchInterval: 30_000,
    queryFn: () => take(api.GET('/api/v1/shared/{secret}', { params: { path: { secret } } })),
  });
  useEffect(() => {
    document.title = 'Upgrade times · Grand Stair';
  }, []);
  if (failed(shared))
    return (
      <main className="shared">
        <Problem of={shared.error} />
      </main>
    );
  if (!shared.data) return <Loading />;
  const view = shared.data;
  setClock(() => Date.parse(view.now));
  const toCome = view.slots.filter((s) => !['verified', 'done', 'stopped'].includes(s.status));
  const over = view.slots.length - toCome.length;
  const upgraded = view.slots.filter((s) => s.mayReport);
  const notice = view.noticeHours;
  return (
    <main className="shared">
      <p className="brand">
        <svg viewBox="0 0 20 20" aria-hidden="true">
          <path d="M0 20v-4h4v-4h4V8h4V4h4V0h4v20z" />
        </svg>
        Grand Stair · {view.plan}
      </p>
      <h1>
        {view.of ? `${view.of}: ` : ''}
        {toCome.length === 0 ? 'no upgrades left' : `${many(toCome.length, 'machine')} to be upgraded`} to {view.target}
      </h1>
      <p className="under">
        Times are in {Intl.DateTimeFormat().resolvedOptions().timeZone}. The machine restarts by itself during its upgrade.
        {notice !== null && ` You can reschedule until ${span(notice * 3600)} before.`}
        {over > 0 && upgraded.length === 0 && ` ${amount(over)} already upgraded.`}
        {upgraded.length > 0 && (
          <>
            {' '}
            <a href="#upgraded">{amount(over)} already upgraded: report a problem</a>.
          </>
        )}{' '}
        <a href={`/api/v1/shared/${secret}/calendar.ics`}>Subscribe (iCal)</a>
      </p>
      <section className="card">
        <table>
          <thead>
            <tr>
              <th>Machine</th>
              <th>Site</th>
              <th>Begins</th>
              <th>Expected end</th>
              <th>Status</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {toCome.map((s) => (
              <Row
                key={s.machine}
                secret={secret}
                slot={s}
                open={choosing === s.machine}
                onOpen={() => setChoosing(choosing === s.machine ? undefined : s.machine)}
                onDone={() => setChoosing(undefined)}
              />
            ))}
          </tbody>
        </table>
      </section>
      {upgraded.length > 0 && (
        <section className="card below" id="upgraded">
          <h2>Already upgraded</h2>
          <p className="quiet">Does something not work as before? Say what, and the people who run the upgrade will see to it.</p>
          <ul className="rows">
            {upgraded.map((s) => (
              <Upgraded key={s.machine} secret={secret} slot={s} />
            ))}
          </ul>
        </section>
      )}
    </main>
  );
}

function Row({
  secret,
  slot,
  open,
  onOpen,
  onDone,
}: {
  secret: string;
  slot: Slot;
  open: boolean;
  onOpen: () => void;
  onDone: () => void;
}) {
  return (
    <>
      <tr>
        <td>
          <code>{slot.machine}</code>
        </td>
        <td>{slot.site}</td>
        <td className="nowrap">
          {slot.start ? <b>{time(slot.start)}</b> : 'not scheduled yet'}
          {slot.start && !slot.confirmed && !slot.chosen && <span className="quiet"> not yet confirmed</span>}
          {slot.chosen && <span className="quiet"> manually chosen</span>}
          {slot.ownerPresent && slot.start && <div>Please be there: this upgrade needs you at the machine.</div>}
        </td>
        <td className="nowrap">{time(slot.end)}</td>
        <td className="nowrap">
          <Status of={slot.status} />
        </td>
        <td className="num nowrap">
          {slot.chooseFrom && (
            <button type="button" className="plain link" aria-expanded={open} onClick={onOpen}>
              Reschedule
            </button>
          )}
        </td>
      </tr>
      {open && (
        <tr className="choice">
          <td colSpan={6}>
            <Choice secret={secret} slot={slot} onDone={onDone} />
          </td>
        </tr>
      )}
    </>
  );
}

/** A machine that is upgraded, what its owner has reported about it, and a form for more. */
function Upgraded({ secret, slot }: { secret: string; slot: Slot }) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const [words, setWords] = useState('');
  const field = useRef<HTMLTextAreaElement>(null);
  useEffect(() => {
    if (open) field.current?.focus();
  }, [open]);
  const report = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/shared/{secret}/machines/{machine}/reports', {
          params: { path: { secret, machine: slot.machine } },
          body: { words },
        }),
      ),
    onSuccess: (view) => {
      queries.setQueryData(['shared', secret], view);
      setWords('');
      setOpen(false);
    },
  });
  return (
    <li>
      <div className="line">
        <span>
          <code>{slot.machine}</code> <span className="quiet">{slot.site}</span>
        </span>
        <button type="button" className="plain link" aria-expanded={open} onClick={() => setOpen(!open)}>
          Report a problem
        </button>
      </div>
      {slot.reports.map((one) => (
        <div key={one.at} className="quiet">
          {time(one.at)}: {one.words} – {one.closed ? `closed ${time(one.closed)}: ${one.because}` : 'open'}
        </div>
      ))}
      {open && (
        <>
          <Textarea
            label="What does not work"
            maxLength={500}
            value={words}
            onChange={(e) => setWords(e.currentTarget.value)}
            autosize
            minRows={2}
            ref={field}
          />
          <DialogActions
            act="Report it"
            busy={report.isPending}
            error={report.error}
            ready={words.trim() !== ''}
            onAct={() => report.mutate()}
            onClose={() => setOpen(false)}
          />
        </>
      )}
    </li>
  );
}

function Choice({ secret, slot, onDone }: { secret: string; slot: Slot; onDone: () => void }) {
  const queries = useQueryClient();
  const [at, setAt] = useState<string>();
  const { machine } = slot;
  const path = { secret, machine };
  const times = useQuery({
    queryKey: ['shared-times', secret, machine],
    queryFn: () => take(api.GET('/api/v1/shared/{secret}/machines/{machine}/times', { params: { path } })),
  });
  const choose = useMutation({
    mutationFn: (start: string) =>
      take(api.POST('/api/v1/shared/{secret}/machines/{machine}/choose', { params: { path }, body: { start } })),
    onSuccess: (view) => {
      queries.setQueryData(['shared', secret], view);
      queries.invalidateQueries({ queryKey: ['shared-times', secret] });
      onDone();
    },
  });
  return (
    <>
      {!times.data && !times.error && <p className="quiet">Looking for times …</p>}
      {times.data && <FreeTimes times={times.data} chosen={at} onChoose={setAt} />}
      {times.data?.length === 0 && (
        <p className="quiet">
          It can begin between {time(slot.chooseFrom)} and {time(slot.chooseTo)}; ask the person who gave you this link for another time.
        </p>
      )}
      <DialogActions
        act={at ? `Begin ${time(at)}` : 'Choose a time'}
        busy={choose.isPending}
        error={times.error ?? choose.error}
        ready={at !== undefined}
        onAct={() => at && choose.mutate(at)}
        onClose={onDone}
      />
    </>
  );
}
