import { Button } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { Loading, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { time } from '../parts/words';
import { useMay } from '../session/useSession';

const MOST = 200;
const HASH = 12;

/** Scripts: catalogue changes that wait for approval, and what ran on which machine. */
export function Catalogue() {
  const changes = useQuery({ queryKey: ['changes'], queryFn: () => take(api.GET('/api/v1/catalogue/changes')) });
  const uses = useQuery({
    queryKey: ['uses'],
    queryFn: () => take(api.GET('/api/v1/scripts/uses', { params: { query: { limit: MOST } } })),
  });
  if (changes.error ?? uses.error) return <Problem of={(changes.error ?? uses.error) as Error} />;
  if (!changes.data || !uses.data) return <Loading />;
  return (
    <>
      <h1>
        {changes.data.length === 0 ? (
          'All scripts are approved'
        ) : (
          <>
            <b>{changes.data.length}</b> changed {changes.data.length === 1 ? 'product waits' : 'products wait'} for an approver
          </>
        )}
      </h1>
      <p className="under">Scripts run as root. Until a change is approved, the product's approved version stays in use.</p>
      {changes.data.map((change) => (
        <Change key={change.product} change={change} />
      ))}
      <section className="card scroll" tabIndex={0} aria-label="What ran where">
        <h2>
          <span>What ran where</span>
          <span className="quiet">
            {uses.data.items.length} of {Number(uses.data.total)}
          </span>
        </h2>
        <table>
          <thead>
            <tr>
              <th>Machine</th>
              <th>Script</th>
              <th>SHA-256</th>
              <th>As</th>
              <th>For</th>
              <th>Last</th>
              <th className="num">Times</th>
            </tr>
          </thead>
          <tbody>
            {uses.data.items.map((u) => (
              <tr key={`${u.machine}/${u.product}/${u.script}/${u.hash}/${u.purpose}/${u.for}`}>
                <td>
                  <MachineLink name={u.machine} />
                </td>
                <td>
                  {u.script} <span className="quiet">{u.product}</span>
                </td>
                <td>
                  <code title={u.hash}>{u.hash.slice(0, HASH)}</code>
                </td>
                <td>{u.purpose}</td>
                <td>{u.for}</td>
                <td>{time(u.last)}</td>
                <td className="num">{Number(u.times)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </>
  );
}

function Change({ change }: { change: Schemas['CatalogueChangeView'] }) {
  const may = useMay();
  const queries = useQueryClient();
  const [approving, setApproving] = useState(false);
  const approve = useMutation({
    mutationFn: (reason: string) =>
      take(
        api.POST('/api/v1/catalogue/changes/{product}/approve', {
          params: { path: { product: change.product } },
          body: { hash: change.hash, reason },
        }),
      ),
    onSuccess: () => {
      setApproving(false);
      queries.invalidateQueries();
    },
  });
  return (
    <section className="card above">
      <h2>
        <span>{change.product}</span>
        {may('ApproveCatalogue') && (
          <Button className="acts" size="xs" onClick={() => setApproving(true)}>
            Approve …
          </Button>
        )}
      </h2>
      {change.files.map((file) => (
        <div key={file.file}>
          <b>{file.file}</b> {file.change} {file.after && <code className="quiet">SHA-256 {file.after.slice(0, HASH)}…</code>}
          <pre className="diff">
            {file.lines.map((line, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: lines are identified by their position only
              <span key={i} className={line.startsWith('+') ? 'came' : 'went'}>
                {line}
                {'\n'}
              </span>
            ))}
          </pre>
        </div>
      ))}
      {approving && (
        <ReasonDialog
          title={`Approve ${change.product}`}
          what="From now on plans and readings use this version. Running upgrades keep the version they began with."
          act="Approve it"
          busy={approve.isPending}
          error={approve.error}
          onAct={(reason) => approve.mutate(reason)}
          onClose={() => setApproving(false)}
        />
      )}
    </section>
  );
}
