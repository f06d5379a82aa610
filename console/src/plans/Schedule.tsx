import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { amount, date, many, time } from '../parts/words';

type View = Schemas['ScheduleView'];

/** The schedule of a plan as it is stored. */
export const useSchedule = (name: string | undefined, enabled = true) =>
  useQuery({
    queryKey: ['schedule', name],
    staleTime: 60_000,
    enabled: enabled && name !== undefined,
    queryFn: () => take(api.GET('/api/v1/plans/{name}/schedule', { params: { path: { name: name as string } } })),
  });

/** When the last slot ends, and whether that is in time. */
export function LastSlot({ of, before }: { of: View; before?: string | null }) {
  return (
    <>
      {of.end ? (
        <>
          If nothing fails the last slot of the {many(of.ready, 'ready machine')} ends <b>{time(of.end)}</b>
          {before && before !== of.end && ` instead of ${time(before)}`}
          {of.deadline &&
            (of.meetsDeadline ? (
              `, in time for ${date(of.deadline)}`
            ) : (
              <strong className="held">, after the deadline {date(of.deadline)}</strong>
            ))}
          .
        </>
      ) : (
        'No machine is ready to be scheduled.'
      )}
      {of.notReady > 0 && (
        <>
          {' '}
          <Link to={`/readiness?plan=${of.plan}`} className="held">
            {amount(of.notReady)} more {of.notReady === 1 ? 'is' : 'are'} not ready
          </Link>{' '}
          and {of.deadline ? 'will miss the deadline' : 'have no slot'} until fixed.
        </>
      )}
    </>
  );
}

/** A change that would let a plan end earlier. */
export const ChangeLine = ({ of }: { of: Schemas['PlanChangeView'] }) => (
  <li>
    {of.what} <span className="quiet">ends {time(of.end)}</span>
  </li>
);

/** A machine that cannot be scheduled. */
export const LeftLine = ({ of }: { of: Schemas['LeftView'] }) => (
  <li>
    <MachineLink name={of.machine} /> {of.why} <span className="quiet">It would take {of.change}.</span>
  </li>
);

/** The first few of many, and a button that shows more. */
export function Few<T>({ of, most, rest, children }: { of: T[]; most: number; rest: string; children: (one: T) => ReactNode }) {
  if (of.length === 0) return null;
  return (
    <ul className="rows">
      {of.slice(0, most).map(children)}
      {of.length > most && (
        <li className="quiet">
          and {of.length - most} more{rest}
        </li>
      )}
    </ul>
  );
}
