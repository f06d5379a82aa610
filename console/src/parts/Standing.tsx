import { statusWord, word } from './words';

/** Where machines stand, in the order of their way, with the shape that says the same as the colour. */
export const standings = [
  ['done', '■'],
  ['proved', '▲'],
  ['under-way', '▶'],
  ['parked', '‖'],
  ['scheduled', '○'],
  ['ready', '◇'],
  ['not-ready', '✕'],
  ['excused', '–'],
  ['ended', '!'],
] as const;

const shapes = new Map<string, string>(standings);

/** A standing by shape, word and colour. */
export function Standing({ of }: { of: string }) {
  return (
    <span className={`standing is-${of}`}>
      <span className="shape" aria-hidden="true">
        {shapes.get(of) ?? '·'}
      </span>
      {statusWord(of)}
    </span>
  );
}

const gateShapes: Record<string, string> = { open: '○', undecided: '?', shut: '✕' };

/** A gate's state by shape, word and colour. */
export function GateState({ of }: { of: string }) {
  return (
    <span className={`standing is-gate-${of}`}>
      <span className="shape" aria-hidden="true">
        {gateShapes[of] ?? '·'}
      </span>
      {word(of)}
    </span>
  );
}
