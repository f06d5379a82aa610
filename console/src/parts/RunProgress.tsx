import type { Schemas } from '../api/client';
import { span, word } from './words';

const phases = ['gate', 'stage', 'wait', 'protect', 'apply', 'verify'];

/** The progress of a run through its phases. */
export function RunProgress({ run }: { run: Schemas['RunRow'] }) {
  const number = Number(run.phaseNumber);
  return (
    <span className="run-progress" role="img" aria-label={`${word(run.phase)}${run.overSeconds ? ', longer than usual' : ''}`}>
      {phases.map((phase, i) => {
        const at = i + 1;
        const state =
          at < number
            ? 'full'
            : at > number
              ? ''
              : run.status === 'parked' || run.status === 'stopped'
                ? 'parked'
                : run.overSeconds
                  ? 'over'
                  : 'now';
        const share = at === number ? (run.share ?? 0.5) : 1;
        return (
          <span key={phase} className={`phase ${state}`} title={phase}>
            {state === 'now' && <span style={{ width: `${Math.max(8, share * 100)}%` }} />}
          </span>
        );
      })}
    </span>
  );
}

/** The remaining time of a run, how far it is over the usual time, or since when there is no contact. */
export function ToGo({ run }: { run: Schemas['RunRow'] }) {
  if (run.noContact) return <span className="over-text">no contact for {span(run.noContact.seconds)}</span>;
  if (run.overSeconds) return <span className="over-text">{span(run.overSeconds)} over the usual time</span>;
  return <span>{run.leftSeconds === null ? '' : `${span(run.leftSeconds)} to go`}</span>;
}
