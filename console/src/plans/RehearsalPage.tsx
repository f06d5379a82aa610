import { Button, NumberInput, Progress, Textarea } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { Status } from '../parts/Status';
import { date, many, percent, span, time, word } from '../parts/words';
import { useMay } from '../session/useSession';
import { ForecastAge } from './Planning';

type Forecast = Schemas['ForecastView'];

const SHOWN = 14;

/** The forecast of a plan, its delays, and what changes would bring. */
export function RehearsalPage() {
  const { name = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const path = { params: { path: { name } } };
  const all = useQuery({ queryKey: ['rehearsals', name], queryFn: () => take(api.GET('/api/v1/plans/{name}/rehearsals', path)) });
  const plan = useQuery({ queryKey: ['plan', name], queryFn: () => take(api.GET('/api/v1/plans/{name}', path)) });
  // Only a running plan has a forecast; other plans are rehearsed on demand.
  const isStarted = plan.data?.plan.state === 'started';
  const forecast = useQuery({
    queryKey: ['forecast', name],
    enabled: isStarted,
    retry: false,
    queryFn: () => take(api.GET('/api/v1/plans/{name}/forecast', path)),
  });
  const wanted = Number(params.get('rehearsal') ?? 0) || null;
  const rehearsal = useQuery({
    queryKey: ['rehearsal', name, wanted],
    enabled: wanted !== null,
    refetchInterval: (query) => (isRunning(query.state.data) ? 500 : false),
    queryFn: () => take(api.GET('/api/v1/plans/{name}/rehearsals/{id}', { params: { path: { name, id: wanted ?? 0 } } })),
  });
  if (failed(plan)) return <Problem of={plan.error} />;
  if (failed(all)) return <Problem of={all.error} />;
  if (failed(rehearsal)) return <Problem of={rehearsal.error} />;
  if (!all.data || !plan.data || (wanted !== null && !rehearsal.data) || (wanted === null && isStarted && forecast.isPending))
    return <Loading />;
  const results = wanted === null ? (forecast.data ? [forecast.data] : []) : (rehearsal.data?.results ?? []);
  return (
    <>
      <div className="title">
        <h1>
          <Link to={`/plans/${name}`}>{name}</Link>: <Answer of={results[0]} rehearsal={wanted === null ? undefined : rehearsal.data} />
        </h1>
      </div>
      <p className="under">
        {results[0] ? (
          <>
            {wanted === null ? 'The forecast' : `Rehearsal ${wanted}`}: {results[0].draws} simulations from {time(results[0].from)}. One in
            ten is earlier than the first date, nine in ten are earlier than the last. {notVerified(results[0])}{' '}
            <ForecastAge of={results[0]} />
          </>
        ) : (
          'A rehearsal simulates the whole plan many times, with measured durations and failure rates.'
        )}
      </p>
      {rehearsal.data && isRunning(rehearsal.data) && <Running of={rehearsal.data} />}
      {results.length > 0 && (
        <section className="card above" aria-label="What if">
          <h2>
            <span>Completion forecast</span>
            <span className="quiet">bar: 80 % range · mark: median · red: deadline</span>
          </h2>
          <Ranges of={results} />
        </section>
      )}
      <Ask plan={name} onAsked={(id) => setParams({ rehearsal: String(id) })} />
      {results[0] && (
        <div className="two-lists">
          <Sites of={results[0]} />
          <Late of={results[0]} />
        </div>
      )}
      {all.data.length > 0 && <Before all={all.data} shown={wanted} />}
    </>
  );
}

const isRunning = (of: Schemas['RehearsalView'] | undefined) => of?.state === 'waiting' || of?.state === 'running';

function Answer({ of, rehearsal }: { of: Forecast | undefined; rehearsal: Schemas['RehearsalView'] | undefined }) {
  if (!of) return rehearsal ? <>the rehearsal is {word(rehearsal.state)}</> : <>not rehearsed yet</>;
  return (
    <>
      done <b>{date(of.verified.p10)}</b> to <b>{of.verified.p90 ? date(of.verified.p90) : 'an unknown date'}</b>
      {of.inTime !== null && of.deadline && (
        <>
          , <b className={of.inTime < 0.5 ? 'held' : undefined}>{percent(of.inTime)}</b> likely by {date(of.deadline)}
        </>
      )}
    </>
  );
}

function notVerified(of: Forecast): string {
  const { p10, p90 } = of.notVerified;
  const machines = p10 === p90 ? many(p90, 'machine') : `${p10} to ${p90} machines`;
  return p90 === 0 ? '' : `${machines} of ${of.machines} will not be verified at all.`;
}

function Running({ of }: { of: Schemas['RehearsalView'] }) {
  const may = useMay();
  const queries = useQueryClient();
  const cancel = useMutation({
    mutationFn: () => take(api.DELETE('/api/v1/plans/{name}/rehearsals/{id}', { params: { path: { name: of.plan, id: of.id } } })),
    onSettled: () => queries.invalidateQueries(),
  });
  const share = (of.done / Math.max(1, of.total)) * 100;
  return (
    <section className="card above">
      <h2>
        <span>
          {of.done} of {of.total} times gone through
        </span>
        {may('CancelRehearsal') && (
          <Button size="xs" variant="default" loading={cancel.isPending} onClick={() => cancel.mutate()}>
            Cancel rehearsal
          </Button>
        )}
      </h2>
      <Progress value={share} aria-label={`${Math.round(share)} % done`} />
    </section>
  );
}

const WIDTH = 1200;
const LEFT = 300;
const RIGHT = 150;
const ROW = 34;
const HEAD = 26;
const DAY = 86_400_000;

/** The finish of the plan and of each what-if: a bar for the range, a mark for the median, a line for the deadline. */
function Ranges({ of }: { of: Forecast[] }) {
  const moments = of
    .flatMap((f) => [f.verified.p10, f.verified.p90 ?? f.verified.p50, f.deadline])
    .flatMap((m) => (m ? [Date.parse(m)] : []));
  if (moments.length === 0) return <p className="empty">In no simulation was any machine verified.</p>;
  const from = Math.min(...moments) - 2 * DAY;
  const to = Math.max(...moments) + 2 * DAY;
  const x = (at: string | null | undefined) => LEFT + (((at ? Date.parse(at) : to) - from) / (to - from)) * (WIDTH - LEFT - RIGHT);
  const days = Math.ceil((to - from) / DAY);
  const every = days > 60 ? 14 : days > 16 ? 7 : 2;
  const first = Math.ceil(from / DAY) * DAY;
  const height = HEAD + of.length * ROW + 6;
  return (
    <svg className="ranges" viewBox={`0 0 ${WIDTH} ${height}`} role="img" aria-label="When the plan and each what-if is done">
      <g className="axis" aria-hidden="true">
        {Array.from({ length: Math.floor(days / every) + 1 }, (_, i) => first + i * every * DAY)
          .filter((at) => at < to)
          .map((at) => (
            <g key={at}>
              <line x1={x(new Date(at).toISOString())} x2={x(new Date(at).toISOString())} y1={HEAD - 6} y2={height} />
              <text x={x(new Date(at).toISOString()) + 3} y={12}>
                {shortDay(at)}
              </text>
            </g>
          ))}
      </g>
      {of.map((f, i) => {
        const y = HEAD + i * ROW;
        return (
          <g key={f.name || 'current plan'}>
            <title>
              {f.name || 'Current plan'}: {time(f.verified.p10)} to {f.verified.p90 ? time(f.verified.p90) : 'never'}, 50 % by{' '}
              {f.verified.p50 ? time(f.verified.p50) : 'never'}
            </title>
            <text x={0} y={y + 19} className="name">
              {clip(f.name || 'Current plan')}
            </text>
            <rect
              x={x(f.verified.p10)}
              y={y + 6}
              width={Math.max(3, x(f.verified.p90) - x(f.verified.p10))}
              height={18}
              rx={3}
              className="range"
            />
            {f.verified.p50 && <rect x={x(f.verified.p50) - 2} y={y + 3} width={4} height={24} className="middle" />}
            {f.deadline && (
              <g className="deadline">
                <line x1={x(f.deadline)} x2={x(f.deadline)} y1={y} y2={y + ROW} />
              </g>
            )}
            <text x={WIDTH} y={y + 19} textAnchor="end" className="name">
              {f.inTime === null ? (f.verified.p50 ? date(f.verified.p50) : 'never') : `${percent(f.inTime)} in time`}
            </text>
          </g>
        );
      })}
    </svg>
  );
}

const month = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' });
const shortDay = (at: number) => month.format(new Date(at));
const clip = (text: string) => (text.length > 42 ? `${text.slice(0, 41)}…` : text);

/** Starts a rehearsal; each line is a what-if in the syntax of the plan's file. */
function Ask({ plan, onAsked }: { plan: string; onAsked: (id: number) => void }) {
  const may = useMay();
  const queries = useQueryClient();
  const [lines, setLines] = useState('');
  const [draws, setDraws] = useState<number | string>(200);
  const ask = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/plans/{name}/rehearsals', {
          params: { path: { name: plan } },
          body: {
            draws: Number(draws) || null,
            whatIfs: lines
              .split('\n')
              .map((line) => line.trim())
              .filter((line) => line !== '')
              .map((line) => ({ changes: line.split(';').map((change) => change.trim()) })),
          },
        }),
      ),
    onSuccess: (asked) => {
      queries.invalidateQueries();
      onAsked(Number(asked.id));
    },
  });
  if (!may('AskRehearsal')) return null;
  return (
    <section className="card">
      <form
        className="ask-rehearsal"
        onSubmit={(e) => {
          e.preventDefault();
          ask.mutate();
        }}
      >
        <Textarea
          className="wide"
          label="What-if scenarios (one per line)"
          description="A field of the plan and its new value, or an entry to add; separate several changes with a semicolon."
          placeholder={'limits.all=12\nadvance.soak=1 d; limits.site=3\nuplinks.MV Fulmar.share=60 %'}
          autosize
          minRows={3}
          maxRows={8}
          value={lines}
          onChange={(e) => setLines(e.currentTarget.value)}
        />
        <NumberInput label="Times" min={1} max={2000} w={110} value={draws} onChange={setDraws} />
        <Button type="submit" className="acts" loading={ask.isPending}>
          Rehearse
        </Button>
      </form>
      {ask.error && <Problem of={ask.error} />}
    </section>
  );
}

function Sites({ of }: { of: Forecast }) {
  return (
    <section className="card">
      <h2>
        <span>Last sites to finish, and why</span>
      </h2>
      <table>
        <thead>
          <tr>
            <th>Site</th>
            <th className="num">machines</th>
            <th>50 % by</th>
            <th>90 % by</th>
            <th>main delay</th>
            <th className="num">for</th>
          </tr>
        </thead>
        <tbody>
          {of.sites.slice(0, SHOWN).map((s) => (
            <tr key={s.site} title={s.waits.map((w) => `${w.cause}: ${span(w.hours * 3600)}`).join('\n')}>
              <td>
                <Link to={`/fleet?filter=${encodeURIComponent(`site = "${s.site}"`)}`}>{s.site}</Link>
              </td>
              <td className="num">{s.machines}</td>
              <td className="nowrap">{s.verified.p50 ? date(s.verified.p50) : 'never'}</td>
              <td className="nowrap">{s.verified.p90 ? date(s.verified.p90) : 'never'}</td>
              <td>{s.bottleneck}</td>
              <td className="num">{span(s.hours * 3600)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {of.sites.length > SHOWN && <p className="quiet">{of.sites.length - SHOWN} further sites are through earlier.</p>}
    </section>
  );
}

function Late({ of }: { of: Forecast }) {
  return (
    <section className="card">
      <h2>
        <span>{of.late.length === 0 ? 'No machine misses the deadline' : 'Most likely to miss the deadline'}</span>
      </h2>
      {of.late.length > 0 && (
        <table>
          <thead>
            <tr>
              <th>Machine</th>
              <th>status</th>
              <th className="num">misses in</th>
            </tr>
          </thead>
          <tbody>
            {of.late.slice(0, SHOWN).map((l) => (
              <tr key={l.machine} title={l.why ?? undefined}>
                <td>
                  <MachineLink name={l.machine} /> <span className="quiet">{l.site}</span>
                </td>
                <td>
                  <Status of={l.status} />
                </td>
                <td className="num">{percent(l.misses)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {of.late.length > SHOWN && <p className="quiet">and {of.late.length - SHOWN} more that may.</p>}
    </section>
  );
}

function Before({ all, shown }: { all: Schemas['RehearsalView'][]; shown: number | null }) {
  return (
    <section className="card below">
      <h2>
        <span>Rehearsals so far</span>
        {shown !== null && <Link to="?">the forecast as of now</Link>}
      </h2>
      <ul className="rows">
        {all.map((r) => (
          <li key={r.id}>
            {r.id === shown ? <b>Rehearsal {r.id}</b> : <Link to={`?rehearsal=${r.id}`}>Rehearsal {r.id}</Link>}{' '}
            <span className="quiet">
              {word(r.state)}, {r.draws} times, asked by {r.askedBy} {time(r.askedAt)}
              {r.why && `: ${r.why}`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
