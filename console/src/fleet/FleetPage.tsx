import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { useRowsInSight } from '../parts/inSight';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { Status } from '../parts/Status';
import { amount, many, time } from '../parts/words';
import { useMay } from '../session/useSession';
import { OpenDialog } from '../support-cases/SupportCases';
import { RemoveDialog } from './Removal';

const PART = 200;
const ROW = 37;

/** How many machines one command may name. */
const MOST_AT_ONCE = 1000;

export function FleetPage() {
  const [params] = useSearchParams();
  const may = useMay();
  const filter = params.get('filter') ?? '';
  const machines = useInfiniteQuery({
    queryKey: ['machines', filter],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/machines', { params: { query: { filter: filter || undefined, limit: PART, cursor: pageParam ?? undefined } } }),
      ),
    initialPageParam: null as string | null,
    getNextPageParam: (last) => last.next,
  });
  if (failed(machines))
    return (
      <>
        <h1>No machines match this filter</h1>
        <p className="under">
          <code>{filter}</code>
        </p>
        <Problem of={machines.error} />
        <Examples />
      </>
    );
  if (!machines.data) return <Loading />;
  const rows = machines.data.pages.flatMap((page) => page.items);
  const total = Number(machines.data.pages[0]?.total ?? 0);
  const conflicting = rows.filter((row) => Number(row.conflicts) > 0).length;
  return (
    <>
      {may('ImportFleet') && (
        <Link to="/fleet/import" className="page-action">
          Import machines …
        </Link>
      )}
      <h1>
        <b>{amount(total)}</b> {total === 1 ? 'machine' : 'machines'}
        {filter && ' match'}
      </h1>
      <p className="under">
        {filter ? <code>{filter}</code> : 'the whole fleet'}
        {conflicting > 0 && <> · sources conflict on {many(conflicting, 'machine')} of these</>}
        {filter && total > 0 && total <= MOST_AT_ONCE && <MatchingActions filter={filter} total={total} />}
      </p>
      {total === 0 ? <Examples /> : <Rows rows={rows} more={machines.hasNextPage} onMore={() => machines.fetchNextPage()} />}
    </>
  );
}

/** What can be done with all machines that match a filter. */
function MatchingActions({ filter, total }: { filter: string; total: number }) {
  const may = useMay();
  const [asked, setAsked] = useState<'case' | 'remove' | null>(null);
  const matching = useQuery({
    queryKey: ['machines-matching', filter],
    enabled: asked !== null,
    queryFn: () => take(api.GET('/api/v1/machines', { params: { query: { filter, limit: MOST_AT_ONCE } } })),
  });
  const machines = matching.data?.items.map((m) => m.name);
  const these = total === 1 ? 'this machine' : `these ${many(total, 'machine')}`;
  const close = () => setAsked(null);
  return (
    <>
      {may('OpenSupportCase') && (
        <>
          {' · '}
          <button type="button" className="plain link" onClick={() => setAsked('case')}>
            Record a support case about {these} …
          </button>
        </>
      )}
      {may('RemoveMachines') && (
        <>
          {' · '}
          <button type="button" className="plain link" onClick={() => setAsked('remove')}>
            Remove {these} from the fleet …
          </button>
        </>
      )}
      {machines && asked === 'case' && <OpenDialog machines={machines} onClose={close} />}
      {machines && asked === 'remove' && <RemoveDialog machines={machines} onClose={close} />}
    </>
  );
}

type Row = Schemas['MachineRow'];

function Rows({ rows, more, onMore }: { rows: Row[]; more: boolean; onMore: () => void }) {
  const { box, shown, height } = useRowsInSight<HTMLDivElement>({ count: rows.length, height: ROW, overscan: 12, more, onMore });
  return (
    <section className="card scroll" ref={box} tabIndex={0} aria-label="Machines">
      <div className="grid-table fleet" role="table" aria-rowcount={rows.length}>
        <div className="grid-head" role="row">
          {['name', 'site', 'group', 'product', 'build', 'model', 'last seen', 'status'].map((head) => (
            <span key={head} role="columnheader">
              {head}
            </span>
          ))}
        </div>
        <div style={{ height, position: 'relative' }}>
          {shown.map((item) => {
            const m = rows[item.index] as Row;
            return (
              <div key={m.id} role="row" className="grid-row" style={{ transform: `translateY(${item.start}px)` }}>
                <span role="cell">
                  <MachineLink name={m.name} />
                </span>
                <span role="cell">{m.site}</span>
                <span role="cell">{m.group}</span>
                <span role="cell">{m.product ?? 'not known'}</span>
                <span role="cell">{m.version}</span>
                <span role="cell">{m.model}</span>
                <span role="cell" className="quiet">
                  {m.lastSeen ? time(m.lastSeen) : 'never'}
                </span>
                <span role="cell">{m.status ? <Status of={m.status} /> : <span className="quiet">in no plan</span>}</span>
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}

function Examples() {
  const examples = [
    'name like "desk-w-*"',
    'site = "Westhaven" and disk.system.free < 40 GiB',
    'os.version < 7 and not tag = "pilot"',
    'os.version older than 3 d',
  ];
  return (
    <section className="card narrow">
      <h2>Filter examples</h2>
      <ul className="rows">
        {examples.map((example) => (
          <li key={example}>
            <Link to={`/fleet?filter=${encodeURIComponent(example)}`}>
              <code>{example}</code>
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}
