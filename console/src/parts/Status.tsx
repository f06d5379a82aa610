import { word } from './words';

/** The statuses in their order, each with a shape beside its colour. */
export const statuses = [
  ['done', '■'],
  ['verified', '▲'],
  ['running', '▶'],
  ['parked', '‖'],
  ['scheduled', '○'],
  ['ready', '◇'],
  ['not-ready', '✕'],
  ['exempt', '–'],
  ['stopped', '!'],
] as const;

const shapes = new Map<string, string>(statuses);

/** A status by shape, word and colour. */
export function Status({ of }: { of: string }) {
  return (
    <span className={`status is-${of}`}>
      <span className="shape" aria-hidden="true">
        {shapes.get(of) ?? '·'}
      </span>
      {word(of)}
    </span>
  );
}

const mediaShapes: Record<string, string> = { present: '■', missing: '✕', quarantined: '!' };

/** Whether the service has a file of media, by shape, word and colour. */
export function MediaState({ of }: { of: string }) {
  return (
    <span className={`status is-media-${of}`}>
      <span className="shape" aria-hidden="true">
        {mediaShapes[of] ?? '·'}
      </span>
      {word(of)}
    </span>
  );
}

const gateShapes: Record<string, string> = { open: '○', undecided: '?', blocked: '✕' };

/** A gate's state by shape, word and colour. */
export function GateState({ of }: { of: string }) {
  return (
    <span className={`status is-gate-${of}`}>
      <span className="shape" aria-hidden="true">
        {gateShapes[of] ?? '·'}
      </span>
      {word(of)}
    </span>
  );
}
