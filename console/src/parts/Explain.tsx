import type { Schemas } from '../api/client';
import { span } from './words';

/** Explains a check: found, required, fix. */
export function Explain({
  seen,
  wanted,
  fix,
  state,
}: {
  seen: Schemas['SeenView'][];
  wanted: string;
  fix: Schemas['FixView'];
  state: string;
}) {
  return (
    <dl className={`explain is-check-${state}`}>
      <dt>found</dt>
      <dd>
        {seen.map((leaf) => (
          <div key={leaf.condition}>
            <code>
              {leaf.key} = {leaf.shown}
            </code>
            {leaf.ageSeconds !== null && (
              <span className="quiet">
                , {span(leaf.ageSeconds)} ago, by {leaf.source}
              </span>
            )}
            {leaf.note && <div className="quiet">{leaf.note}</div>}
          </div>
        ))}
      </dd>
      <dt>required</dt>
      <dd>
        <code>{wanted}</code>
      </dd>
      <dt>fix</dt>
      <dd>
        {fix.words} <span className="quiet">{fixedBy(fix)}</span>
      </dd>
    </dl>
  );
}

/** Who fixes it, and how long that takes. */
export function fixedBy(fix: { by: string; minutes: number | null }): string {
  const who =
    { person: 'manual fix', script: 'automated fix', vendor: "by the vendor's support", nobody: 'no fix available' }[fix.by] ?? fix.by;
  return fix.minutes === null ? who : `${who}, ${fix.minutes} min`;
}
