import { useEffect, useState } from 'react';
import { Navigate, NavLink, Outlet, ScrollRestoration, useLocation, useNavigate, useSearchParams } from 'react-router';
import { type Schemas, ServiceProblem } from '../api/client';
import { useLive } from '../api/live';
import { useMay, useSession } from '../session/useSession';
import { ConditionField } from './ConditionField';
import { titleOf } from './titles';
import { setClock, time, zone } from './words';

const pages = [
  ['/', 'Overview'],
  ['/fleet', 'Fleet'],
  ['/exposure', 'Exposure'],
  ['/readiness', 'Readiness'],
  ['/plans', 'Plans'],
  ['/runs', 'Runs'],
  ['/outcomes', 'Outcomes'],
  ['/media', 'Media'],
] as const;

/** Pages that need a right, with the call that each of them makes. */
const kept = [
  ['/access', 'Access', ['ListAccounts', 'ListScriptUses']],
  ['/audit', 'Audit', ['ListAudit']],
] as const;

/** The frame of every page: navigation, search, the signed-in account and the service's time. */
export function Frame() {
  const session = useSession();
  const may = useMay();
  const place = useLocation();
  useEffect(() => {
    document.title = titleOf(place.pathname);
  }, [place.pathname]);
  if (session.error instanceof ServiceProblem && session.error.status === 401)
    return <Navigate to={`/sign-in?to=${encodeURIComponent(place.pathname + place.search)}`} replace />;
  return (
    <>
      <ScrollRestoration />
      <a className="skip" href="#page">
        Skip to main content
      </a>
      <header className="frame">
        <NavLink to="/" className="brand">
          <svg viewBox="0 0 20 20" aria-hidden="true">
            <path d="M0 20v-4h4v-4h4V8h4V4h4V0h4v20z" />
          </svg>
          Grand Stair
        </NavLink>
        <nav aria-label="Pages">
          {[...pages, ...kept.filter(([, , calls]) => calls.some(may))].map(([to, name]) => (
            <NavLink key={to} to={to} end={to === '/'}>
              {name}
            </NavLink>
          ))}
        </nav>
        <FilterBox />
        {session.data && <Now session={session.data} />}
      </header>
      <main id="page">
        {session.data && <Live />}
        {session.data?.notices.map((notice) => (
          <p key={notice} className="away" role="status">
            {notice}
          </p>
        ))}
        {session.error && !(session.error instanceof ServiceProblem && session.error.status === 401) && (
          <p className="away" role="alert">
            {session.error.message}
          </p>
        )}
        <Outlet />
      </main>
    </>
  );
}

function Live() {
  return useLive() === 'away' ? (
    <p className="away" role="status">
      Live updates are interrupted; what you see may be out of date. Reconnecting …
    </p>
  ) : null;
}

/** The search field in the header. */
function FilterBox() {
  const [params] = useSearchParams();
  const place = useLocation();
  const go = useNavigate();
  return (
    <ConditionField
      value={place.pathname === '/fleet' ? (params.get('filter') ?? '') : ''}
      label="Find machines"
      placeholder="Find machines …"
      onSubmit={(filter) => go(`/fleet?filter=${encodeURIComponent(filter)}`)}
    />
  );
}

/** The signed-in account and the service's clock, which runs fast in a demo. */
function Now({ session }: { session: Schemas['SessionView'] }) {
  const [, tick] = useState(0);
  const [taken] = useState(() => new Map<string, number>());
  if (!taken.has(session.now)) taken.set(session.now, Date.now());
  useEffect(() => {
    const timer = setInterval(() => tick((n) => n + 1), 1000);
    return () => clearInterval(timer);
  }, []);
  const nowHere = () => Date.parse(session.now) + (Date.now() - (taken.get(session.now) as number)) * session.pace;
  setClock(nowHere);
  return (
    <span className="who" title={session.pace === 1 ? undefined : `One second is ${session.pace} seconds of the simulated fleet's time`}>
      <NavLink to="/me">{session.actor}</NavLink> · {time(new Date(nowHere()).toISOString())} {zone()}
    </span>
  );
}
