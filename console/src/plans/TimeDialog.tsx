import { TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { ReasonDialog } from '../parts/ReasonDialog';
import { clockMoment, date, many, time } from '../parts/words';
import { FreeTimes } from './FreeTimes';

const DAY = 86_400_000;

/** Reschedules a machine: free times, conflicts, and which machines would move. */
export function TimeDialog({ plan, machine, start, onClose }: { plan: string; machine: string; start?: string; onClose: () => void }) {
  const queries = useQueryClient();
  const [at, setAt] = useState(start);
  const path = { name: plan, machine };
  const times = useQuery({
    queryKey: ['times', plan, machine, start],
    staleTime: 30_000,
    queryFn: () => {
      // Free times around the wanted one.
      const around = start ? { from: shifted(start, -2), to: shifted(start, 14) } : {};
      return take(api.GET('/api/v1/plans/{name}/members/{machine}/times', { params: { path, query: around } }));
    },
  });
  const trial = useQuery({
    queryKey: ['trial', plan, machine, at],
    enabled: at !== undefined,
    staleTime: 30_000,
    retry: false,
    queryFn: () =>
      take(api.GET('/api/v1/plans/{name}/members/{machine}/times/{start}', { params: { path: { ...path, start: at as string } } })),
  });
  const reschedule = useMutation({
    mutationFn: (body: Schemas['RescheduleCommand']) =>
      take(api.POST('/api/v1/plans/{name}/members/{machine}/reschedule', { params: { path }, body })),
    onSuccess: () => {
      queries.invalidateQueries();
      onClose();
    },
  });
  const view = times.data;
  return (
    <ReasonDialog
      title={`Reschedule ${machine}`}
      what={
        view
          ? `${view.slot ? `It ${view.confirmed ? 'begins' : 'is planned to begin'} ${time(view.slot.from)}` : 'It is not scheduled'}${view.chosenBy ? `, scheduled by ${view.chosenBy}` : ''}. What others were told stays as it is.`
          : 'Loading free times …'
      }
      act="Reschedule"
      busy={reschedule.isPending}
      error={reschedule.error ?? times.error}
      ready={trial.data?.slot !== undefined && trial.data.slot !== null}
      onAct={(reason) => reschedule.mutate({ start: at as string, reason })}
      onClose={onClose}
    >
      <TextInput
        type="datetime-local"
        label="Start"
        description={`Times are in ${Intl.DateTimeFormat().resolvedOptions().timeZone}.`}
        value={at ? clockMoment(at) : ''}
        onChange={(e) => setAt(e.currentTarget.value ? new Date(e.currentTarget.value).toISOString() : undefined)}
      />
      {at && <Trial of={trial.data} error={trial.error} />}
      {view && <FreeTimes times={view.times} chosen={at} onChoose={setAt} />}
    </ReasonDialog>
  );
}

/** The effect of a time: what prevents it, or which machines move and how the end changes. */
function Trial({ of, error }: { of: Schemas['TrialView'] | undefined; error: Error | null }) {
  if (error) return <p className="form-error">{error.message}</p>;
  if (!of) return <p className="quiet">Checking conflicts …</p>;
  if (!of.slot)
    return (
      <div className="trial is-blocked" role="status">
        <b>Not available at that time.</b>
        <ul>
          {of.inTheWay.map((why) => (
            <li key={why}>{why}</li>
          ))}
        </ul>
      </div>
    );
  return (
    <div className="trial is-open" role="status">
      <b>Available.</b> It ends {time(of.slot.to)}
      {of.crew && `, with ${of.crew}`}
      {of.stageFrom && `, and is staged from ${time(of.stageFrom)}`}.
      {of.moved.length > 0 && (
        <>
          {' '}
          {many(of.moved.length, 'unconfirmed slot moves', 'unconfirmed slots move')}:
          <ul>
            {of.moved.slice(0, 4).map((m) => (
              <li key={m.machine}>
                {m.machine} {m.after ? `moves from ${time(m.before)} to ${time(m.after)}` : `loses its slot at ${time(m.before)}`}
              </li>
            ))}
            {of.moved.length > 4 && <li>and {of.moved.length - 4} more</li>}
          </ul>
        </>
      )}
      {of.end && of.endBefore && of.end > of.endBefore && ` The last slot ends ${date(of.end)} instead of ${date(of.endBefore)}.`}
      {!of.meetsDeadline && <strong className="held"> That is after the deadline.</strong>}
    </div>
  );
}

const shifted = (at: string, days: number) => new Date(Date.parse(at) + days * DAY).toISOString();
