import { Button, TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { type PointerEvent, useRef, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { amount, date, many, time, word } from '../parts/words';
import { useMay } from '../session/useSession';
import { TimeDialog } from './TimeDialog';
import { WaveDialog } from './WaveDialog';

const WIDTH = 1232;
const LEFT = 118;
const RIGHT = 8;
const HEAD = 6;
const LANE = 8;
const PAD = 7;
const LEAST = 30;
const STEP = 20;
const DAY = 86_400_000;
const GRAIN = 15 * 60_000;
/** From this number of sites on, the board offers a search. */
const MANY_SITES = 20;

type Board = Schemas['BoardView'];
type Site = Schemas['BoardSite'];
type Slot = Schemas['BoardSlot'];
type Wave = Schemas['BoardWave'];

/** The schedule of a plan over time: waves, and for each site its windows, freezes and slots. */
export function BoardPage() {
  const { name = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const may = useMay();
  const [rescheduling, setRescheduling] = useState<{ machine: string; start: string }>();
  const [beginning, setBeginning] = useState<{ wave: Wave; start: string }>();
  const days = Number(params.get('days') ?? 7);
  const from = params.get('from') ?? undefined;
  const plan = useQuery({ queryKey: ['plan', name], queryFn: () => take(api.GET('/api/v1/plans/{name}', { params: { path: { name } } })) });
  const board = useQuery({
    queryKey: ['board', name, from, days],
    placeholderData: (before: Board | undefined) => before,
    queryFn: async () => {
      const at = (query: { from?: string; to?: string }) =>
        take(api.GET('/api/v1/plans/{name}/board', { params: { path: { name }, query } }));
      const first = from ?? midnight((await at({})).from);
      return at({ from: first, to: new Date(Date.parse(first) + days * DAY).toISOString() });
    },
  });
  if (failed(board)) return <Problem of={board.error} />;
  if (failed(plan)) return <Problem of={plan.error} />;
  if (!board.data || !plan.data) return <Loading />;
  const only = params.get('site') ?? '';
  const view = { ...board.data, sites: board.data.sites.filter((s) => s.site.toLowerCase().includes(only.toLowerCase())) };
  const go = (to: number, span = days) => {
    const next = new URLSearchParams(params);
    next.set('from', new Date(to).toISOString());
    next.set('days', String(span));
    setParams(next);
  };
  const search = (site: string) => {
    const next = new URLSearchParams(params);
    if (site) next.set('site', site);
    else next.delete('site');
    setParams(next, { replace: true });
  };
  // The start in the URL counts at once, before its data has arrived.
  const begin = Date.parse(from ?? view.from);
  const slots = view.sites.reduce((sum, s) => sum + s.slots.length, 0);
  const unplaced = view.sites.reduce((sum, s) => sum + s.unplaced, 0);
  return (
    <>
      <div className="title">
        <h1>
          <Link to={`/plans/${name}`}>{name}</Link>: {many(slots, 'slot')} from {date(view.from)} to{' '}
          {date(new Date(Date.parse(view.to) - 1).toISOString())}
        </h1>
        <div className="title-acts">
          {board.data.sites.length > MANY_SITES && (
            <TextInput
              aria-label="Sites"
              placeholder={`Which of ${amount(board.data.sites.length)} sites`}
              value={only}
              onChange={(e) => search(e.currentTarget.value)}
            />
          )}
          <Button variant="default" onClick={() => go(begin - days * DAY)}>
            Earlier
          </Button>
          <Button variant="default" onClick={() => go(begin + days * DAY)}>
            Later
          </Button>
          <Button variant="default" onClick={() => go(begin, days === 7 ? 21 : 7)}>
            {days === 7 ? 'Three weeks' : 'One week'}
          </Button>
        </div>
      </div>
      <p className="under">
        Times are in {Intl.DateTimeFormat().resolvedOptions().timeZone}.{' '}
        {may('RescheduleMachine') && (
          <>
            Drag a machine to reschedule it, or choose it in <Link to={`/plans/${name}?status=scheduled`}>the list</Link>
            {may('LoadPlan') && '; drag a wave that has not begun to delay it'}.{' '}
          </>
        )}
        {many(unplaced, 'machine')} of {many(view.sites.length, 'site')} {unplaced === 1 ? 'is' : 'are'} not scheduled
        {unplaced > 0 && (
          <>
            {' '}
            (<Link to={`/plans/${name}?status=not-ready,ready`}>show why</Link>)
          </>
        )}
        .
      </p>
      <section className="card wide-drawing" aria-label="Schedule by site">
        <Chart
          view={view}
          onReschedule={(machine, start) => setRescheduling({ machine, start })}
          onBegin={(wave, start) => setBeginning({ wave, start })}
        />
      </section>
      <Legend waves={plan.data.waves} />
      {rescheduling && <TimeDialog plan={name} {...rescheduling} onClose={() => setRescheduling(undefined)} />}
      {beginning && (
        <WaveDialog
          plan={name}
          number={beginning.wave.number}
          wave={beginning.wave.name}
          start={beginning.start}
          onClose={() => setBeginning(undefined)}
        />
      )}
    </>
  );
}

/** The midnight before a moment, in local time. */
const midnight = (at: string) => new Date(new Date(at).setHours(0, 0, 0, 0)).toISOString();

/** The colour class of a wave; four colours repeat. */
const colourOf = (wave: number) => `wave-${((wave - 1) % 4) + 1}`;

/** Whether a machine has not begun, so that it can be rescheduled. */
const isMovable = (slot: Slot) => slot.status === 'ready' || slot.status === 'scheduled';

/** Whether a time is outside the site's windows, as far as the console can tell before it asks the service. */
const breaks = (site: Site, start: number, end: number) => !site.open.some((o) => Date.parse(o.from) <= start && end <= Date.parse(o.to));

/** What is being dragged: a machine's slot, or a wave. */
interface Drag {
  slot?: Slot;
  wave?: Wave;
  from: number;
  to: number;
  grabbed: number;
  start: number;
  moved: boolean;
}

/** Puts overlapping slots into lanes. */
function lanes(slots: Slot[]): { slot: Slot; lane: number }[] {
  const ends: number[] = [];
  return slots.map((slot) => {
    const free = ends.findIndex((end) => end <= Date.parse(slot.start));
    const lane = free < 0 ? ends.length : free;
    ends[lane] = Date.parse(slot.end);
    return { slot, lane };
  });
}

interface Chosen {
  onReschedule: (machine: string, start: string) => void;
  onBegin: (wave: Wave, start: string) => void;
}

function Chart({ view, onReschedule, onBegin }: { view: Board } & Chosen) {
  const { name } = useParams();
  const may = useMay();
  const go = useNavigate();
  const svg = useRef<SVGSVGElement>(null);
  const [drag, setDrag] = useState<Drag>();
  const from = Date.parse(view.from);
  const to = Date.parse(view.to);
  const x = (at: number) => LEFT + ((Math.min(Math.max(at, from), to) - from) / (to - from)) * (WIDTH - LEFT - RIGHT);
  const rows: Placed[] = [];
  let top = HEAD + view.waves.length * STEP + PAD;
  for (const site of view.sites) {
    const placed = lanes(site.slots);
    const height = Math.max(LEAST, 2 * PAD + LANE * (1 + Math.max(0, ...placed.map((p) => p.lane))));
    rows.push({ site, top, height, placed });
    top += height;
  }
  /** The moment under the pointer. */
  const momentOf = (e: PointerEvent) => {
    const box = (svg.current as SVGSVGElement).getBoundingClientRect();
    return from + ((((e.clientX - box.left) / box.width) * WIDTH - LEFT) / (WIDTH - LEFT - RIGHT)) * (to - from);
  };
  const grab = (what: Pick<Drag, 'slot' | 'wave'>, from: string, to: string, e: PointerEvent) => {
    if (e.button !== 0) return;
    svg.current?.setPointerCapture(e.pointerId);
    const start = Date.parse(from);
    setDrag({ ...what, from: start, to: Date.parse(to), grabbed: momentOf(e) - start, start, moved: false });
  };
  const move = (e: PointerEvent) => {
    if (!drag) return;
    const start = Math.round((momentOf(e) - drag.grabbed) / GRAIN) * GRAIN;
    setDrag({ ...drag, start, moved: drag.moved || Math.abs(start - drag.from) >= GRAIN });
  };
  const drop = () => {
    setDrag(undefined);
    if (!drag) return;
    const { slot, wave, moved } = drag;
    const start = new Date(drag.start).toISOString();
    if (wave && moved) onBegin(wave, start);
    else if (wave) go(`/plans/${name}?wave=${wave.number}`);
    else if (slot && moved) onReschedule(slot.machine, start);
    else if (slot) go(`/machines/${encodeURIComponent(slot.machine)}`);
  };
  const dayCount = Math.round((to - from) / DAY);
  const every = dayCount > 10 ? 3 : 1;
  const now = Date.parse(view.now);
  const starts = Array.from({ length: dayCount }, (_, i) => from + i * DAY);
  return (
    <>
      {/* Sticky, so that the days stay visible above many sites. */}
      <div className="board-days" aria-hidden="true">
        {starts
          .filter((_, i) => i % every === 0)
          .map((day) => (
            <span key={day} style={{ left: `${(x(day) / WIDTH) * 100}%` }}>
              {time(new Date(day).toISOString()).slice(0, -6)}
            </span>
          ))}
      </div>
      <svg
        ref={svg}
        className="board"
        onPointerMove={move}
        onPointerUp={drop}
        onPointerCancel={() => setDrag(undefined)}
        viewBox={`0 0 ${WIDTH} ${top + 4}`}
        role="group"
        aria-label={`${view.sites.length} sites over ${dayCount} days`}
      >
        <defs>
          <pattern id="closed" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="2" height="6" className="closed-stripe" />
          </pattern>
        </defs>
        {starts.map((day) => (
          <line key={day} className="day" x1={x(day)} x2={x(day)} y1={0} y2={top} />
        ))}
        {view.waves.map((wave, i) => (
          <WaveBar
            key={wave.number}
            wave={wave}
            top={HEAD + i * STEP}
            x={x}
            onGrab={wave.state === 'waiting' && may('LoadPlan') ? (e) => grab({ wave }, wave.from ?? '', wave.to ?? '', e) : undefined}
          />
        ))}
        {rows.map((row) => (
          <Row
            key={row.site.site}
            row={row}
            x={x}
            onGrab={may('RescheduleMachine') ? (slot, e) => grab({ slot }, slot.start, slot.end, e) : undefined}
          />
        ))}
        {drag?.moved && <Ghost drag={drag} rows={rows} waves={view.waves} x={x} />}
        {now > from && now < to && <line className="now" x1={x(now)} x2={x(now)} y1={0} y2={top} />}
      </svg>
    </>
  );
}

interface Placed {
  site: Site;
  top: number;
  height: number;
  placed: { slot: Slot; lane: number }[];
}

/** A bar from the first slot of a wave to its last. */
function WaveBar({ wave, top, x, onGrab }: { wave: Wave; top: number; x: (at: number) => number; onGrab?: (e: PointerEvent) => void }) {
  const [from, to] = [wave.from && x(Date.parse(wave.from)), wave.to && x(Date.parse(wave.to))];
  const notBefore = wave.notBefore ? `, not before ${time(wave.notBefore)}` : '';
  const words = wave.from
    ? `${wave.name}, ${word(wave.state)}: ${time(wave.from)} to ${time(wave.to)}${notBefore}`
    : `${wave.name}, ${word(wave.state)}: no slots`;
  const isShown = typeof from === 'number' && typeof to === 'number' && to - from >= 1;
  return (
    <g className={`wave-bar ${colourOf(wave.number)} is-${wave.state}`}>
      <text className="wave-name" x={0} y={top + 13}>
        {wave.name.length > 17 ? `${wave.name.slice(0, 16)}…` : wave.name}
        <title>{words}</title>
      </text>
      {isShown && (
        <rect
          x={from}
          y={top + 3}
          width={to - from}
          height={STEP - 8}
          rx={2}
          className={onGrab ? 'movable' : undefined}
          onPointerDown={onGrab}
        >
          <title>{words}</title>
        </rect>
      )}
      {!isShown && wave.from && (
        <text x={from === WIDTH - RIGHT ? WIDTH - RIGHT : LEFT} y={top + 13} textAnchor={from === WIDTH - RIGHT ? 'end' : 'start'}>
          {from === WIDTH - RIGHT ? `from ${time(wave.from)} →` : `← until ${time(wave.to)}`}
        </text>
      )}
    </g>
  );
}

/** Where a dragged machine or wave would be dropped. */
function Ghost({ drag, rows, waves, x }: { drag: Drag; rows: Placed[]; waves: Wave[]; x: (at: number) => number }) {
  const row = rows.find((r) => r.placed.some((p) => p.slot.machine === drag.slot?.machine));
  const lane = row?.placed.find((p) => p.slot.machine === drag.slot?.machine)?.lane ?? 0;
  if (!row && !drag.wave) return null;
  const end = drag.start + drag.to - drag.from;
  const y = row ? row.top + PAD + lane * LANE : HEAD + waves.findIndex((w) => w.number === drag.wave?.number) * STEP + 4;
  const begin = x(drag.start);
  const isRight = begin > WIDTH - (drag.wave ? 120 : 190);
  const isOutside = row !== undefined && breaks(row.site, drag.start, end);
  return (
    <g className={`ghost ${isOutside ? 'breaks' : ''}`}>
      <rect x={begin} y={y - 1} width={Math.max(4, x(end) - begin)} height={row ? LANE : STEP - 8} />
      <text x={isRight ? begin - 6 : drag.wave ? begin + 6 : x(end) + 6} y={y + (row ? LANE : 10)} textAnchor={isRight ? 'end' : 'start'}>
        {time(new Date(drag.start).toISOString())}
        {isOutside && ', outside its windows'}
      </text>
    </g>
  );
}

function Row({ row, x, onGrab }: { row: Placed; x: (at: number) => number; onGrab?: (slot: Slot, e: PointerEvent) => void }) {
  const go = useNavigate();
  const { site, top, height, placed } = row;
  const band = (from: string, to: string) => ({
    x: x(Date.parse(from)),
    width: Math.max(1, x(Date.parse(to)) - x(Date.parse(from))),
    y: top + 2,
    height: height - 4,
  });
  return (
    <g>
      <line className="row" x1={0} x2={WIDTH} y1={top} y2={top} />
      <text className="site" x={0} y={top + 19}>
        {site.site}
      </text>
      {site.open.map((o) => (
        <rect key={o.from} className="open" {...band(o.from, o.to)}>
          <title>{`${site.site} maintenance window from ${time(o.from)} to ${time(o.to)}`}</title>
        </rect>
      ))}
      {site.closed.map((c) => (
        <rect key={c.from} className="closed" fill="url(#closed)" {...band(c.from, c.to)}>
          <title>{`${site.site} freeze from ${time(c.from)} to ${time(c.to)}: ${c.why}`}</title>
        </rect>
      ))}
      {placed.map(({ slot, lane }) => {
        const y = top + PAD + lane * LANE;
        const begin = x(Date.parse(slot.start));
        const open = () => go(`/machines/${encodeURIComponent(slot.machine)}`);
        const words = `${slot.machine}, ${word(slot.status)}: ${time(slot.start)} to ${time(slot.end)}${slot.confirmed ? '' : ', planned'}${slot.crew ? `, with ${slot.crew}` : ''}${slot.chosen ? ', as somebody chose' : ''}${slot.stageFrom ? `, staged from ${time(slot.stageFrom)}` : ''}`;
        return (
          <g
            key={slot.machine}
            className={`slot ${colourOf(slot.wave)} ${slot.confirmed ? '' : 'scheduled'} is-${slot.status} ${slot.chosen ? 'chosen' : ''}`}
          >
            {slot.stageFrom && <line className="staging" x1={x(Date.parse(slot.stageFrom))} x2={begin} y1={y + 3} y2={y + 3} />}
            <rect
              x={begin}
              y={y}
              width={Math.max(2, x(Date.parse(slot.end)) - begin - 1)}
              height={LANE - 2}
              role="link"
              tabIndex={0}
              aria-label={words}
              className={onGrab && isMovable(slot) ? 'movable' : undefined}
              onPointerDown={(e) => isMovable(slot) && onGrab?.(slot, e)}
              onClick={onGrab && isMovable(slot) ? undefined : open}
              onKeyDown={(e) => e.key === 'Enter' && open()}
            >
              <title>{words}</title>
            </rect>
          </g>
        );
      })}
    </g>
  );
}

function Legend({ waves }: { waves: Schemas['WaveView'][] }) {
  return (
    <p className="board-legend">
      {waves.map((w) => (
        <span key={w.number} className={colourOf(w.number)}>
          <i /> {w.name}
        </span>
      ))}
      <span className="scheduled">
        <i /> planned, not confirmed
      </span>
      <span className="scheduled chosen">
        <i /> manually scheduled
      </span>
      <span className="is-parked">
        <i /> parked or stopped
      </span>
      <span className="legend-open">
        <i /> maintenance window
      </span>
      <span className="legend-closed">
        <i /> freeze
      </span>
      <span className="legend-staging">
        <i /> staging over the uplink
      </span>
    </p>
  );
}
