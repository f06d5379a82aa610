import type { Schemas } from '../api/client';
import { many, time } from '../parts/words';
import { ChangeLine, Few, LastSlot, LeftLine } from './Schedule';

type View = Schemas['ComparisonView'];

/** What loading a plan's text would change: members, end, moved slots, and lines. */
export function Comparison({ of, endBefore, isBrief = false }: { of: View; endBefore?: string | null; isBrief?: boolean }) {
  const { schedule } = of;
  const most = isBrief ? 3 : 5;
  // The moment from which the schedule is computed; a wave without another limit begins then.
  const start = schedule.waves[0]?.from;
  const come = of.waves.filter((w) => w.from === null).length;
  const leave = of.waves.filter((w) => w.to === null).length;
  const change = of.waves.length - come - leave;
  return (
    <div className="comparison" role="status">
      <p>
        <b>{many(of.machines, 'machine')}</b>
        {of.revision > 1 && of.waves.length === 0 && ', each in the wave that it is in'}
        {of.waves.length > 0 &&
          `: ${[come > 0 && `${come} join`, leave > 0 && `${leave} leave`, change > 0 && `${change} change their wave`].filter(Boolean).join(', ')}`}
        . {schedule.end && <LastSlot of={schedule} before={endBefore} />}
      </p>
      <Few of={of.waves} most={most} rest=" machines">
        {(w) => (
          <li key={w.machine}>
            <code>{w.machine}</code>{' '}
            {w.to === null ? `leaves ${w.from}` : w.from === null ? `joins ${w.to}` : `moves from ${w.from} to ${w.to}`}
          </li>
        )}
      </Few>
      <table>
        <thead>
          <tr>
            <th>Wave</th>
            <th className="num">with a slot</th>
            <th className="num">without</th>
            <th>begins</th>
            <th>ends</th>
          </tr>
        </thead>
        <tbody>
          {schedule.waves
            .filter((w) => w.placed + w.left > 0)
            .map((w) => (
              <tr key={w.wave}>
                <td>{w.wave}</td>
                <td className="num">{w.placed}</td>
                <td className="num">{w.left || ''}</td>
                <td className="nowrap">{w.from === start ? 'now' : time(w.from)}</td>
                <td className="nowrap">{w.end ? time(w.end) : ''}</td>
              </tr>
            ))}
        </tbody>
      </table>
      {of.moved.length > 0 && (
        <>
          <p>{many(of.moved.length, 'confirmed slot moves', 'confirmed slots move')}:</p>
          <Few of={of.moved} most={most} rest=" slots">
            {(m) => (
              <li key={m.machine}>
                <code>{m.machine}</code>{' '}
                {m.after ? `${time(m.after)} instead of ${time(m.before)}` : `is unscheduled instead of ${time(m.before)}`}
              </li>
            )}
          </Few>
        </>
      )}
      {schedule.left.length > 0 && (
        <>
          <p className="held">{many(schedule.left.length, 'machine')} cannot be scheduled:</p>
          <Few of={schedule.left} most={most} rest=" machines">
            {(l) => <LeftLine key={l.machine} of={l} />}
          </Few>
        </>
      )}
      {schedule.changes.length > 0 && (
        <>
          <p>{schedule.changes.every((c) => c.meets) ? 'Each of these alone would meet the deadline:' : 'Together, these help most:'}</p>
          <Few of={schedule.changes} most={most} rest=" changes">
            {(c) => <ChangeLine key={c.what} of={c} />}
          </Few>
        </>
      )}
      {!isBrief &&
        of.coverages.map((c) => (
          <p key={c.wave}>
            {c.wave} covers {c.covered} of {c.values} values
            {c.uncovered.length > 0 &&
              `; not covered: ${c.uncovered
                .slice(0, 3)
                .map((u) => `${u.key} ${u.value}`)
                .join(', ')}${c.uncovered.length > 3 ? ` and ${c.uncovered.length - 3} more` : ''}`}
            .
          </p>
        ))}
      {of.noEffect.map((text) => (
        <p key={text} className="held">
          {text}
        </p>
      ))}
      {of.missing.length > 0 && <p className="held">Listed and not in the scope: {of.missing.join(', ')}.</p>}
      {of.undecided.length > 0 && (
        <p className="held">
          {many(of.undecided.length, 'machine')} with unknown membership (missing data); the first: {of.undecided[0]}.
        </p>
      )}
      {!isBrief && of.lines.length > 0 && (
        <pre className="lines">
          {of.lines.map((line, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: the same line can be added and removed in several places
            <span key={i} className={line.startsWith('+') ? 'comes' : 'goes'}>
              {line}
              {'\n'}
            </span>
          ))}
        </pre>
      )}
    </div>
  );
}
