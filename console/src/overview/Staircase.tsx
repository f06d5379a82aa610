import { useNavigate } from 'react-router';
import type { Schemas } from '../api/client';
import { amount } from '../parts/words';

const WIDTH = 1232;
const HEIGHT = 280;
const LEFT = 40;
const RIGHT = 24;
const TOP = 58;
const BOTTOM = 24;
const DAY = 86_400_000;

type View = Schemas['OverviewView'];

/** Progress over time: each wave is a stair as high as its share of the machines, with the planned line, the actual line, today and the deadline. */
export function Staircase({ view }: { view: View }) {
  const go = useNavigate();
  const now = Date.parse(view.now);
  const total = Math.max(1, view.plan.machines);
  const begin = Date.parse(view.plan.started ?? view.plan.created);
  const moments = [view.plan.deadline, view.forecast?.verified.p90, view.planned.at(-1)?.at, view.actual.at(-1)?.at]
    .filter((m) => m !== null && m !== undefined)
    .map((m) => Date.parse(m));
  const end = Math.max(now + 3 * DAY, ...moments) + 3 * DAY;
  const from = begin - 2 * DAY;
  const x = (at: number) => LEFT + ((at - from) / (end - from)) * (WIDTH - LEFT - RIGHT);
  const y = (machines: number) => HEIGHT - BOTTOM - (machines / total) * (HEIGHT - TOP - BOTTOM);
  const verified = view.actual.at(-1)?.verified ?? 0;
  const today = x(now);
  return (
    <svg
      className="staircase"
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      role="group"
      aria-label={`${amount(verified)} of ${amount(total)} machines verified; the waves as stairs, with the planned and the actual line over time`}
    >
      <Axes x={x} y={y} from={from} end={end} total={total} />
      {stairs(view, now).map((stair) => (
        <g
          key={stair.wave.name}
          className={`stair is-${stair.wave.state}`}
          role="link"
          tabIndex={0}
          aria-label={`Wave ${stair.wave.name}: ${stair.note}`}
          onClick={() => go(`/plans/${view.plan.name}?wave=${stair.wave.number}`)}
          onKeyDown={(e) => e.key === 'Enter' && go(`/plans/${view.plan.name}?wave=${stair.wave.number}`)}
        >
          <rect
            x={x(stair.from)}
            y={y(stair.top)}
            width={x(end) - x(stair.from)}
            height={y(stair.bottom) - y(stair.top)}
            className="tread-fill"
          />
          <path d={`M${x(stair.from)} ${y(stair.bottom)}V${y(stair.top)}H${x(end)}`} className="tread" />
        </g>
      ))}
      {view.forecast && <Band of={view.forecast} x={x} y={y} now={now} verified={verified} />}
      <path d={stepLine(view.planned, x, y, begin, end)} className="planned" />
      <path d={stepLine(view.actual, x, y, begin, Math.min(now, end))} className="actual" />
      {view.plan.deadline && (
        <Mark
          at={x(Date.parse(view.plan.deadline))}
          text={`deadline ${shortDay(Date.parse(view.plan.deadline))}`}
          className="deadline"
          side="left"
        />
      )}
      <Mark at={today} text={`today · ${amount(verified)} verified`} className="today" side={today > WIDTH - 160 ? 'left' : 'right'} />
      <circle cx={today} cy={y(verified)} r={5} className="here" />
      <Labels stairs={stairs(view, now)} x={x} y={y} />
      <Legend />
    </svg>
  );
}

interface Stair {
  wave: Schemas['WaveView'];
  from: number;
  bottom: number;
  top: number;
  note: string;
}

/** The waves as stairs, each from its actual or planned start and as high as its share of the machines. */
function stairs(view: View, now: number): Stair[] {
  let bottom = 0;
  let before = Date.parse(view.plan.started ?? view.plan.created);
  return view.waves.map((wave) => {
    const planned = wave.plannedFrom ? Date.parse(wave.plannedFrom) : before;
    const from = wave.opened ? Date.parse(wave.opened) : Math.max(before, planned, now);
    before = from;
    const stair = { wave, from, bottom, top: bottom + wave.machines, note: note(wave) };
    bottom += wave.machines;
    return stair;
  });
}

function note(wave: Schemas['WaveView']): string {
  const of = (status: string) => wave.tally[status] ?? 0;
  const verified = of('verified') + of('done');
  const parts = [`${amount(verified)} of ${amount(wave.machines)} verified`];
  if (of('running') > 0) parts.push(`${amount(of('running'))} running`);
  if (of('parked') > 0) parts.push(`${amount(of('parked'))} parked`);
  if (wave.state === 'waiting' && of('not-ready') > 0) parts.push(`${amount(of('not-ready'))} not ready`);
  return parts.join(', ');
}

/** Wave names above their stairs; one that would run into the next is set lower or to the left. */
function Labels({ stairs, x, y }: { stairs: Stair[]; x: (at: number) => number; y: (n: number) => number }) {
  return stairs.map((stair) => {
    const at = x(stair.from);
    const left = at > WIDTH * 0.8;
    return (
      <g key={stair.wave.name} className="label" textAnchor={left ? 'end' : 'start'} aria-hidden="true">
        <text x={left ? WIDTH - RIGHT : at + 5} y={y(stair.top) - 18} className="name">
          {stair.wave.name}
        </text>
        <text x={left ? WIDTH - RIGHT : at + 5} y={y(stair.top) - 4}>
          {stair.note}
        </text>
      </g>
    );
  });
}

function stepLine(points: View['planned'], x: (at: number) => number, y: (n: number) => number, begin: number, end: number): string {
  const steps = points.map((point) => `H${x(Date.parse(point.at)).toFixed(1)}V${y(point.verified).toFixed(1)}`);
  return `M${x(begin)} ${y(0)}${steps.join('')}H${x(end).toFixed(1)}`;
}

/** The forecast: the line is the median of the simulations, the band their 80 % range. */
function Band({
  of,
  x,
  y,
  now,
  verified,
}: {
  of: Schemas['ForecastView'];
  x: (at: number) => number;
  y: (n: number) => number;
  now: number;
  verified: number;
}) {
  const steps = of.steps.filter((s) => s.machines > verified && s.verified.p10 && s.verified.p90);
  if (steps.length === 0) return null;
  const point = (at: string | null, n: number) => `${x(Math.max(now, Date.parse(at ?? ''))).toFixed(1)} ${y(n).toFixed(1)}`;
  const here = `${x(now).toFixed(1)} ${y(verified).toFixed(1)}`;
  const early = steps.map((s) => point(s.verified.p10, s.machines));
  const late = steps.map((s) => point(s.verified.p90, s.machines)).reverse();
  const middle = steps.map((s) => point(s.verified.p50, s.machines));
  return (
    <g className="forecast">
      <path d={`M${here}L${early.join('L')}L${late.join('L')}Z`} className="band" />
      <path d={`M${here}L${middle.join('L')}`} className="middle" />
    </g>
  );
}

function Mark({ at, text, className, side }: { at: number; text: string; className: string; side: 'left' | 'right' }) {
  return (
    <g className={`mark ${className}`}>
      <line x1={at} x2={at} y1={4} y2={HEIGHT - BOTTOM} />
      <text x={side === 'left' ? at - 6 : at + 6} y={14} textAnchor={side === 'left' ? 'end' : 'start'}>
        {text}
      </text>
    </g>
  );
}

const month = new Intl.DateTimeFormat('en-GB', { month: 'short' });
const shortDay = (at: number) => `${new Date(at).getDate()} ${month.format(new Date(at))}`;

function Axes({
  x,
  y,
  from,
  end,
  total,
}: {
  x: (at: number) => number;
  y: (n: number) => number;
  from: number;
  end: number;
  total: number;
}) {
  const step = niceStep(total);
  const numbers = Array.from({ length: Math.floor(total / step) + 1 }, (_, i) => i * step);
  const days = (end - from) / DAY;
  const every = days > 120 ? 28 : days > 45 ? 14 : 7;
  // A tick on each Monday.
  const monday = from + ((8 - new Date(from).getDay()) % 7) * DAY;
  const marks = Array.from({ length: Math.max(0, Math.ceil((end - monday) / (every * DAY))) }, (_, i) => monday + i * every * DAY);
  return (
    <g className="axes" aria-hidden="true">
      {numbers.map((n) => (
        <text key={n} x={LEFT - 8} y={y(n) + 4} textAnchor="end">
          {amount(n)}
        </text>
      ))}
      <line x1={LEFT} x2={WIDTH - RIGHT} y1={y(0)} y2={y(0)} />
      {marks.map((at) => (
        <g key={at}>
          <line x1={x(at)} x2={x(at)} y1={y(0)} y2={y(0) + 5} />
          <text x={x(at) + 3} y={y(0) + 17}>
            {shortDay(at)}
          </text>
        </g>
      ))}
    </g>
  );
}

/** A step width that puts three to six numbers on the axis. */
function niceStep(total: number): number {
  const rough = total / 4;
  const power = 10 ** Math.floor(Math.log10(Math.max(1, rough)));
  const step = [1, 2, 3, 5, 6, 10].map((n) => n * power).find((n) => n >= rough) ?? rough;
  return Math.max(1, step);
}

function Legend() {
  return (
    <g className="legend" aria-hidden="true" transform={`translate(${WIDTH - 470} ${HEIGHT - BOTTOM - 14})`}>
      <line x1="0" x2="22" y1="0" y2="0" className="actual" />
      <text x="28" y="4">
        actual
      </text>
      <line x1="84" x2="106" y1="0" y2="0" className="planned" />
      <text x="112" y="4">
        baseline
      </text>
      <rect x="220" y="-6" width="22" height="12" className="band" />
      <line x1="220" x2="242" y1="0" y2="0" className="middle" />
      <text x="248" y="4">
        forecast (80 % range)
      </text>
    </g>
  );
}
