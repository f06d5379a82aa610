import { Button, Select } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { many, time } from '../parts/words';
import { useMay } from '../session/useSession';

const MOST = 500;

/** The SSH host keys by which machines are recognised. */
export function HostKeys() {
  const may = useMay();
  const queries = useQueryClient();
  const [trusting, setTrusting] = useState(false);
  const [ending, setEnding] = useState<string>();
  const [site, setSite] = useState<string | null>(null);
  const keys = useQuery({
    queryKey: ['host-keys'],
    queryFn: () => take(api.GET('/api/v1/host-keys', { params: { query: { limit: MOST } } })),
  });
  const firstUse = useQuery({ queryKey: ['first-use'], queryFn: () => take(api.GET('/api/v1/host-keys/first-use')) });
  const done = () => {
    setTrusting(false);
    setEnding(undefined);
    queries.invalidateQueries();
  };
  const trust = useMutation({
    mutationFn: (reason: string) =>
      take(api.PUT('/api/v1/host-keys/first-use/{site}', { params: { path: { site: site ?? '' } }, body: { reason } })),
    onSuccess: done,
  });
  const end = useMutation({
    mutationFn: (reason: string) =>
      take(api.POST('/api/v1/host-keys/first-use/{site}/end', { params: { path: { site: ending ?? '' } }, body: { reason } })),
    onSuccess: done,
  });
  if (failed(keys)) return <Problem of={keys.error} />;
  if (!keys.data) return <Loading />;
  const all = keys.data.items;
  const none = all.filter((k) => !k.hostKey);
  const first = all.filter((k) => k.from === 'first-use');
  const sites = [...new Set(all.map((k) => k.site))].filter((s) => s !== '').sort();
  return (
    <>
      <h1>
        {all.length === 0 ? (
          'No machine is reached by SSH'
        ) : (
          <>
            <b>{none.length}</b> of {many(Number(keys.data.total), 'machine')} by SSH have no pinned host key
          </>
        )}
      </h1>
      <p className="under">
        Nothing is sent to these.{' '}
        {first.length > 0 && <>The key of {many(first.length, 'machine')} was pinned at first use and not compared. </>}
        Pin them from a file: <code>gstair host-key import known_hosts --reason …</code>
      </p>
      <section className="card above">
        <h2>
          <span>Sites where the first key is trusted</span>
          {may('TrustFirstUse') && sites.length > 0 && (
            <Button variant="default" size="xs" onClick={() => setTrusting(true)}>
              Trust a site …
            </Button>
          )}
        </h2>
        {firstUse.data?.length === 0 && <p className="empty">None: a machine without a pinned key is sent nothing, anywhere.</p>}
        <ul className="rows">
          {firstUse.data?.map((f) => (
            <li key={f.site} className="line">
              <span>
                <b>{f.site}</b> {f.reason}
              </span>
              <span className="num">
                {f.by}, {time(f.since)}{' '}
                {may('EndFirstUse') && (
                  <Button variant="default" size="compact-xs" onClick={() => setEnding(f.site)}>
                    End …
                  </Button>
                )}
              </span>
            </li>
          ))}
        </ul>
      </section>
      {all.length > 0 && (
        <section className="card scroll" tabIndex={0} aria-label="Host keys">
          <table>
            <thead>
              <tr>
                <th>Machine</th>
                <th>Site</th>
                <th>At</th>
                <th>Host key</th>
                <th>Pinned by</th>
              </tr>
            </thead>
            <tbody>
              {all.map((k) => (
                <tr key={k.machine}>
                  <td>
                    <MachineLink name={k.machine} />
                  </td>
                  <td>{k.site}</td>
                  <td>
                    <code>
                      {k.address}:{k.port}
                    </code>
                  </td>
                  <td>{k.hostKey ? <code>{k.hostKey}</code> : <strong>none</strong>}</td>
                  <td>{k.from === 'first-use' ? <strong>first use</strong> : (k.from ?? '')}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
      {trusting && (
        <ReasonDialog
          title="Trust the first key at a site"
          what="The first key that a machine there shows is pinned. If another host answers in its place, that one is trusted."
          act="Trust it"
          ready={site !== null}
          busy={trust.isPending}
          error={trust.error}
          onAct={(reason) => trust.mutate(reason)}
          onClose={() => setTrusting(false)}
        >
          <Select label="Site" data={sites} value={site} onChange={setSite} data-autofocus />
        </ReasonDialog>
      )}
      {ending && (
        <ReasonDialog
          title={`No longer at ${ending}`}
          what="Keys that were pinned stay; nothing is sent to new machines there until their keys are pinned."
          act="End it"
          busy={end.isPending}
          error={end.error}
          onAct={(reason) => end.mutate(reason)}
          onClose={() => setEnding(undefined)}
        />
      )}
    </>
  );
}
