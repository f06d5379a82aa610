import { useQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { inViewersZone, many, time } from '../parts/words';
import { CaseActions, CaseMachines, CaseState, NextAppointment } from './SupportCases';

const states = [
  ['with-us', 'we have to act'],
  ['with-support', 'waiting for support'],
  ['closed', 'closed'],
] as const;

/** All cases with the vendor's support; those that are open by default. */
export function SupportCasesPage() {
  const [params] = useSearchParams();
  const state = params.get('state');
  const all = useQuery({
    queryKey: ['support-cases'],
    queryFn: () => take(api.GET('/api/v1/support-cases', { params: { query: { limit: 1000 } } })),
  });
  if (failed(all)) return <Problem of={all.error} />;
  if (!all.data) return <Loading />;
  const { items } = all.data;
  const open = items.filter((one) => !one.closed);
  const shown = state ? items.filter((one) => one.state === state) : open;
  return (
    <>
      <h1>
        <b>{open.length}</b> {open.length === 1 ? 'support case' : 'support cases'} open
      </h1>
      <p className="under">
        Cases that you opened with a vendor&apos;s support. Record a new one on the page of its machine, or for all machines that match a
        filter in <Link to="/fleet">Fleet</Link>.
      </p>
      <p className="targets">
        <Link to="/support-cases" className={state ? '' : 'here'}>
          all open {open.length}
        </Link>
        {states.map(([name, label]) => (
          <Link key={name} to={`/support-cases?state=${name}`} className={state === name ? 'here' : ''}>
            {label} {items.filter((one) => one.state === name).length}
          </Link>
        ))}
      </p>
      <section className="card">
        {shown.length === 0 && <p className="empty">No case here.</p>}
        {shown.length > 0 && <Cases of={shown} />}
      </section>
    </>
  );
}

function Cases({ of }: { of: Schemas['SupportCaseView'][] }) {
  return (
    <table>
      <thead>
        <tr>
          <th>Number</th>
          <th>Next</th>
          <th>About</th>
          <th>Machines</th>
          <th>Last note</th>
        </tr>
      </thead>
      <tbody>
        {of.map((one) => (
          <tr key={one.id}>
            <td className="nowrap">
              <Link to={`/support-cases/${one.id}`}>{one.reference}</Link>
              <div className="quiet">{one.with}</div>
            </td>
            <td>
              <CaseState of={one} />
              <NextAppointment of={one} />
            </td>
            <td>
              {one.about}
              <CaseActions of={one} />
            </td>
            <td>
              <CaseMachines of={one} />
            </td>
            <td className="quiet">
              {inViewersZone(one.result ?? one.notes.at(-1)?.text ?? `recorded by ${one.openedBy}`)}
              <div>{time(one.notes.at(-1)?.at ?? one.opened)}</div>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** One case with all that was done and said. */
export function SupportCasePage() {
  const { id = '' } = useParams();
  const found = useQuery({
    queryKey: ['support-cases', 'one', id],
    queryFn: () => take(api.GET('/api/v1/support-cases/{id}', { params: { path: { id } } })),
  });
  if (failed(found)) return <Problem of={found.error} />;
  if (!found.data) return <Loading />;
  const one = found.data;
  return (
    <>
      <h1>
        Case <b>{one.reference}</b> with {one.with}: <CaseState of={one} />
      </h1>
      <p className="under">
        {one.about} · recorded by {one.openedBy}, {time(one.opened)}
        {one.run && (
          <>
            {' · '}
            <Link to={`/runs/${one.run}`}>run {one.run}</Link>
          </>
        )}
        {' · '}
        <Link to="/support-cases">all cases</Link>
      </p>
      <div className="columns halves">
        <section className="card">
          <h2>What was done and said</h2>
          {one.notes.length === 0 && <p className="empty">Nothing yet.</p>}
          <ul className="rows">
            {one.notes.toReversed().map((note) => (
              <li key={`${note.at} ${note.text}`}>
                {inViewersZone(note.text)}
                <div className="quiet">
                  {note.by}, {time(note.at)}
                </div>
              </li>
            ))}
          </ul>
          <CaseActions of={one} />
        </section>
        <section className="card">
          <h2>{many(one.machines.length, 'machine')}</h2>
          <NextAppointment of={one} />
          <ul className="rows">
            {one.machines.map((name) => (
              <li key={name} className="line">
                <Link to={`/machines/${encodeURIComponent(name)}`}>
                  <code>{name}</code>
                </Link>
                <a href={`/api/v1/machines/${encodeURIComponent(name)}/referral`}>Download support bundle</a>
              </li>
            ))}
          </ul>
        </section>
      </div>
    </>
  );
}
