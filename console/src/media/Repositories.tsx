import { TextInput } from '@mantine/core';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { ReasonDialog } from '../parts/ReasonDialog';
import { useCommand } from '../parts/useCommand';
import { time } from '../parts/words';
import { useMay } from '../session/useSession';

/** Sites whose machines fetch elsewhere than from the service. */
export function Repositories({ of }: { of: Schemas['SiteRepositoryView'][] }) {
  const may = useMay();
  const [asked, setAsked] = useState(false);
  const [removing, setRemoving] = useState<string>();
  if (of.length === 0 && !may('SetRepository')) return null;
  return (
    <section className="card" aria-label="Repositories">
      <h2>
        Repositories of sites{' '}
        {may('SetRepository') && (
          <button type="button" className="plain link" onClick={() => setAsked(true)}>
            Set a repository …
          </button>
        )}
      </h2>
      {of.length === 0 && <p className="empty">None: the machines of all sites fetch from the service.</p>}
      <ul className="rows">
        {of.map((one) => (
          <li key={one.site} className="line">
            <span>
              <b>{one.site}</b> <code>{one.url}</code>
            </span>
            <span className="quiet">
              set by {one.setBy}, {time(one.at)}
              {may('RemoveRepository') && (
                <>
                  {' '}
                  <button
                    type="button"
                    className="plain link"
                    onClick={() => setRemoving(one.site)}
                    aria-label={`Remove the repository of ${one.site}`}
                  >
                    Remove …
                  </button>
                </>
              )}
            </span>
          </li>
        ))}
      </ul>
      {asked && <RepositoryDialog onClose={() => setAsked(false)} />}
      {removing && <RepositoryRemoval site={removing} onClose={() => setRemoving(undefined)} />}
    </section>
  );
}

function RepositoryDialog({ onClose }: { onClose: () => void }) {
  const [site, setSite] = useState('');
  const [url, setUrl] = useState('');
  const set = useCommand(
    (reason: string) => take(api.PUT('/api/v1/site-repositories/{site}', { params: { path: { site } }, body: { url, reason } })),
    onClose,
  );
  return (
    <ReasonDialog
      title="Repository of a site"
      what="The machines of the site fetch each file from there, under its file name, and compare its checksum. Nothing goes over the uplink."
      act="Set repository"
      ready={site.trim() !== '' && url.trim() !== ''}
      busy={set.isPending}
      error={set.error}
      onAct={(reason) => set.mutate(reason)}
      onClose={onClose}
    >
      <TextInput label="Site" value={site} onChange={(e) => setSite(e.currentTarget.value)} data-autofocus />
      <TextInput
        label="URL"
        description="Below it lie the files, such as http://media.linsay.example/images."
        value={url}
        onChange={(e) => setUrl(e.currentTarget.value)}
        mt="sm"
      />
    </ReasonDialog>
  );
}

function RepositoryRemoval({ site, onClose }: { site: string; onClose: () => void }) {
  const remove = useCommand(
    (reason: string) => take(api.POST('/api/v1/site-repositories/{site}/remove', { params: { path: { site } }, body: { reason } })),
    onClose,
  );
  return (
    <ReasonDialog
      title={`Remove the repository of ${site}`}
      what="The machines of the site fetch from the service again, over the uplink."
      act="Remove repository"
      busy={remove.isPending}
      error={remove.error}
      onAct={(reason) => remove.mutate(reason)}
      onClose={onClose}
    />
  );
}
