import { TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { amount, many, word } from '../parts/words';
import { usePlan } from '../plans/usePlan';

const SOON = 90;

export function ExposurePage() {
  const [params, setParams] = useSearchParams();
  const { plans, name } = usePlan();
  const by = params.get('by') ?? plans.data?.find((p) => p.name === name)?.deadline ?? undefined;
  const isDay = by === undefined || /^\d{4}-\d{2}-\d{2}$/.test(by);
  const exposure = useQuery({
    queryKey: ['exposure', by],
    queryFn: () => take(api.GET('/api/v1/exposure', { params: { query: { by } } })),
    enabled: plans.data !== undefined && isDay,
  });
  if (failed(plans)) return <Problem of={plans.error} />;
  if (failed(exposure)) return <Problem of={exposure.error} />;
  if (!exposure.data) return isDay ? <Loading /> : <p className="empty">A day looks like 2027-03-31.</p>;
  const fallen = exposure.data.reduce((sum, p) => sum + p.fallen, 0);
  const falling = exposure.data.reduce((sum, p) => sum + p.falling, 0);
  return (
    <>
      <div className="title">
        <h1>
          <b>{amount(fallen)}</b> out of support
          {by && (
            <>
              , <b>{amount(falling)}</b> before {by}
            </>
          )}
        </h1>
        <TextInput
          aria-label="Support ends on or before"
          placeholder="2027-03-31"
          defaultValue={by}
          onKeyDown={(e) => e.key === 'Enter' && setParams({ by: e.currentTarget.value })}
          onBlur={(e) => e.currentTarget.value !== (by ?? '') && setParams({ by: e.currentTarget.value })}
        />
      </div>
      <p className="under">After its last day a release gets no more fixes and no vendor help. Earliest end first.</p>
      <div className="stack">
        {exposure.data.length === 0 && (
          <p className="empty">No machine runs a product of the catalogue yet. Import the fleet, or read its machines.</p>
        )}
        {exposure.data.map((product) => (
          <Product key={product.product} of={product} />
        ))}
      </div>
    </>
  );
}

function Product({ of }: { of: Schemas['ExposureView'] }) {
  return (
    <section className="card">
      <h2>
        <span>
          {of.product} <span className="quiet">{many(of.machines, 'machine')}</span>
        </span>
        <span className="quiet">
          {of.recommended && `recommended: ${of.recommended}`}{' '}
          <Link to={`/readiness?product=${encodeURIComponent(of.product)}`}>readiness</Link>
        </span>
      </h2>
      <div className="exposed">
        <table>
          <thead>
            <tr>
              <th>Release</th>
              <th>Edition</th>
              <th>Status</th>
              <th className="num">machines</th>
              <th>Support ends</th>
              <th className="num">days left</th>
            </tr>
          </thead>
          <tbody>
            {of.releases.map((r) => (
              <tr key={`${r.release}/${r.edition}`}>
                <td>{r.name}</td>
                <td>{r.edition ?? <span className="quiet">–</span>}</td>
                <td className="quiet">{word(r.status)}</td>
                <td className="num">
                  <Link to={`/fleet?filter=${encodeURIComponent(r.condition)}`}>{amount(r.machines)}</Link>
                </td>
                <td className="nowrap">{r.supportEnds ?? <span className="quiet">not known</span>}</td>
                <td className={`num ${left(r.daysLeft)}`}>
                  {r.daysLeft === null ? '' : r.daysLeft > 0 ? r.daysLeft : `ended ${1 - r.daysLeft} days ago`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <Trend of={of} />
      </div>
    </section>
  );
}

const left = (days: number | null) => (days === null ? '' : days <= 0 ? 'over' : days <= SOON ? 'soon' : '');

/** The share of machines on each release, day by day. */
function Trend({ of }: { of: Schemas['ExposureView'] }) {
  const days = [...new Set(of.trend.map((t) => t.day))];
  const releases = [...new Set(of.trend.map((t) => t.release))].sort((a, b) => a.localeCompare(b, undefined, { numeric: true }));
  if (days.length < 2) return <p className="quiet small trend">The trend is drawn from the second day on.</p>;
  const at = new Map(of.trend.map((t) => [`${t.day}/${t.release}`, t.machines]));
  const total = (day: string) => releases.reduce((sum, r) => sum + (at.get(`${day}/${r}`) ?? 0), 0);
  const x = (i: number) => (i / (days.length - 1)) * 200;
  let below = days.map(() => 0);
  const bands = releases.map((release, n) => {
    const top = days.map((day, i) => (below[i] as number) + ((at.get(`${day}/${release}`) ?? 0) / Math.max(1, total(day))) * 60);
    const points = [...top.map((y, i) => `${x(i)},${60 - y}`), ...below.map((y, i) => `${x(i)},${60 - y}`).reverse()].join(' ');
    below = top;
    return <polygon key={release} points={points} className={`band band-${n % 4}`} />;
  });
  return (
    <figure className="trend">
      <svg
        viewBox="0 0 200 60"
        role="img"
        aria-label={`Share of the releases from ${days[0]} to ${days.at(-1)}`}
        preserveAspectRatio="none"
      >
        {bands}
      </svg>
      <figcaption className="quiet small">
        {releases.map((release, n) => (
          <span key={release}>
            <i className={`swatch band-${n % 4}`} /> {release === 'other' ? 'other' : release}
          </span>
        ))}
        <span>
          {days[0]} – {days.at(-1)}
        </span>
      </figcaption>
    </figure>
  );
}
