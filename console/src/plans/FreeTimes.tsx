import type { Schemas } from '../api/client';
import { date, hour, time } from '../parts/words';

/** Free times by day, to choose one. */
export function FreeTimes({
  times,
  chosen,
  onChoose,
}: {
  times: Schemas['SpanView'][];
  chosen?: string;
  onChoose: (start: string) => void;
}) {
  if (times.length === 0) return <p className="quiet">No other time is free.</p>;
  const days = new Map<string, Schemas['SpanView'][]>();
  for (const t of times) {
    const day = time(t.from).replace(/ \S+$/, '');
    days.set(day, [...(days.get(day) ?? []), t]);
  }
  return (
    <fieldset className="free-slots">
      <legend>Free</legend>
      {[...days].map(([day, of]) => (
        <div key={day}>
          <span>{day}</span>
          {of.map((t) => (
            <button
              key={t.from}
              type="button"
              aria-pressed={chosen !== undefined && Date.parse(chosen) === Date.parse(t.from)}
              aria-label={`${day} ${hour(t.from)}`}
              title={`${date(t.from)}, until ${hour(t.to)}`}
              onClick={() => onChoose(t.from)}
            >
              {hour(t.from)}
            </button>
          ))}
        </div>
      ))}
    </fieldset>
  );
}
