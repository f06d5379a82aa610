import { Button, FileButton } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { failed, Loading, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { MediaState } from '../parts/Status';
import { bytes, many, time } from '../parts/words';
import { useMay } from '../session/useSession';
import { DownloadDialog } from './DownloadDialog';
import { Repositories } from './Repositories';
import { uploadMedia } from './upload';

/** Installation files that machines fetch: what is there, what is missing, and what is being uploaded. */
export function MediaPage() {
  const may = useMay();
  const [removing, setRemoving] = useState<Schemas['MediaRow']>();
  const media = useQuery({ queryKey: ['media'], queryFn: () => take(api.GET('/api/v1/media')), refetchInterval: 5000 });
  if (failed(media)) return <Problem of={media.error} />;
  if (!media.data) return <Loading />;
  const missing = media.data.files.filter((file) => file.state === 'missing');
  const quarantined = media.data.files.filter((file) => file.state === 'quarantined');
  const blocked = missing.reduce((sum, file) => sum + file.openRuns, 0);
  return (
    <>
      <h1>
        <b>{media.data.files.length - missing.length - quarantined.length}</b> present, <b>{missing.length}</b> missing
        {quarantined.length > 0 && (
          <>
            , <b>{quarantined.length}</b> quarantined
          </>
        )}
        {blocked > 0 && <>: {many(blocked, 'run')} cannot fetch</>}
      </h1>
      <p className="under">
        Machines fetch these files from the service, or from the repository of their site, and compare the checksum before they use one.{' '}
        {bytes(media.data.free)} free on the service’s disk.
      </p>
      {may('BeginMediaUpload') && <Uploads open={media.data.uploads} />}
      <div className="stack">
        <section className="card">
          {media.data.files.length === 0 ? (
            <p className="empty">No media yet, and the catalogue names none.</p>
          ) : (
            <table>
              <thead>
                <tr>
                  <th>File</th>
                  <th>State</th>
                  <th className="num">Size</th>
                  <th>SHA-256</th>
                  <th>For</th>
                  <th>Needed by</th>
                  <th>On machines</th>
                  <th>Added</th>
                  <td />
                </tr>
              </thead>
              <tbody>
                {media.data.files.map((file) => (
                  <FileRow key={file.sha256} file={file} mayRemove={may('RemoveMedia')} onRemove={() => setRemoving(file)} />
                ))}
              </tbody>
            </table>
          )}
        </section>
        <Repositories of={media.data.repositories} />
      </div>
      {removing && <Removal file={removing} onClose={() => setRemoving(undefined)} />}
    </>
  );
}

function FileRow({ file, mayRemove, onRemove }: { file: Schemas['MediaRow']; mayRemove: boolean; onRemove: () => void }) {
  return (
    <tr>
      <td>
        <b>{file.file}</b>
        {file.why && <div className="quiet">{file.why}. Remove it, and add the right file.</div>}
        {file.state === 'missing' && <div className="quiet">Named by the catalogue. Add the file to let machines fetch it.</div>}
      </td>
      <td>
        <MediaState of={file.state} />
      </td>
      <td className="num nowrap">{bytes(file.size)}</td>
      <td>
        <code className="nowrap" title={file.sha256}>
          {file.sha256.slice(0, 12)}
        </code>
      </td>
      <td>
        {file.uses.length === 0 && <span className="quiet">nothing in the catalogue</span>}
        {file.uses.map((use) => (
          <div key={`${use.product} ${use.media}`}>
            {use.product}, {use.media}: <span className="quiet">{use.for}</span>
          </div>
        ))}
      </td>
      <td>
        {file.openRuns > 0 && (
          <>
            {many(file.openRuns, 'open run')}:{' '}
            {file.runs.slice(0, 3).map((run) => (
              <Link key={run} to={`/runs/${run}`}>
                {run}{' '}
              </Link>
            ))}
            {file.openRuns > 3 && '…'}
          </>
        )}
      </td>
      <td>{file.onMachines > 0 && <OnMachines file={file} />}</td>
      <td>{file.added && `${time(file.added)} by ${file.addedBy}`}</td>
      <td className="num">
        {mayRemove && file.state !== 'missing' && (
          <Button variant="default" size="compact-xs" onClick={onRemove} aria-label={`Remove ${file.file}`}>
            Remove …
          </Button>
        )}
      </td>
    </tr>
  );
}

/** The machines that have a file, listed when asked for. */
function OnMachines({ file }: { file: Schemas['MediaRow'] }) {
  return (
    <details>
      <summary className="nowrap">{many(file.onMachines, 'machine')}</summary>
      {file.machines.map((name) => (
        <div key={name}>
          <MachineLink name={name} />
        </div>
      ))}
      {file.onMachines > file.machines.length && <div className="quiet">and {file.onMachines - file.machines.length} more</div>}
    </details>
  );
}

function Removal({ file, onClose }: { file: Schemas['MediaRow']; onClose: () => void }) {
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: (reason: string) =>
      take(api.POST('/api/v1/media/{name}/remove', { params: { path: { name: file.sha256 } }, body: { reason } })),
    onSuccess: () => {
      queries.invalidateQueries({ queryKey: ['media'] });
      onClose();
    },
  });
  return (
    <ReasonDialog
      title={`Remove ${file.file}`}
      what={`Deletes ${bytes(file.size)} from the service’s disk. Machines that have fetched it keep it.`}
      act="Remove"
      busy={remove.isPending}
      error={remove.error}
      onAct={(reason) => remove.mutate(reason)}
      onClose={onClose}
    />
  );
}

/** Adds files, and shows uploads that have not ended. */
function Uploads({ open }: { open: Schemas['MediaUploadView'][] }) {
  const queries = useQueryClient();
  const may = useMay();
  const [downloading, setDownloading] = useState(false);
  const [sent, setSent] = useState<Record<string, Schemas['MediaUploadView']>>({});
  const show = (upload: Schemas['MediaUploadView']) => setSent((all) => ({ ...all, [upload.id]: upload }));
  const add = useMutation({
    mutationFn: async (files: File[]) => {
      for (const file of files) await uploadMedia(file, show);
    },
    onSettled: () => {
      setSent({});
      queries.invalidateQueries({ queryKey: ['media'] });
    },
  });
  const end = useMutation({
    mutationFn: (id: string) => take(api.POST('/api/v1/media-uploads/{id}/end', { params: { path: { id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['media'] }),
  });
  return (
    <>
      <p>
        <FileButton multiple onChange={(files) => files.length > 0 && add.mutate(files)} inputProps={{ 'aria-label': 'Media files' }}>
          {(props) => (
            <Button className="acts" size="xs" loading={add.isPending} {...props}>
              Add files …
            </Button>
          )}
        </FileButton>{' '}
        {may('DownloadMedia') && (
          <Button variant="default" size="xs" onClick={() => setDownloading(true)}>
            Download from a URL …
          </Button>
        )}
      </p>
      {downloading && <DownloadDialog onClose={() => setDownloading(false)} />}
      {add.error && <Problem of={add.error} />}
      {end.error && <Problem of={end.error} />}
      {open.length > 0 && (
        <section className="card">
          <h2>On the way</h2>
          <table>
            <tbody>
              {open
                .map((upload) => sent[upload.id] ?? upload)
                .map((upload) => (
                  <tr key={upload.id}>
                    <td>
                      <b>{upload.file}</b>
                    </td>
                    <td>
                      <progress value={upload.received} max={upload.size} aria-label={`${upload.file} received`} />
                    </td>
                    <td className="num">
                      {bytes(upload.received)} of {bytes(upload.size)}
                    </td>
                    <td>
                      begun {time(upload.begun)} by {upload.begunBy}
                      {upload.url && <div className="quiet">from {upload.url}</div>}
                      {upload.trouble && <div className="held">cut off: {upload.trouble}. The service tries again.</div>}
                      {!upload.url && !add.isPending && '. Add the same file again to continue.'}
                    </td>
                    <td className="num">
                      {!add.isPending && (
                        <Button variant="default" size="compact-xs" onClick={() => end.mutate(upload.id)}>
                          Discard
                        </Button>
                      )}
                    </td>
                  </tr>
                ))}
            </tbody>
          </table>
        </section>
      )}
    </>
  );
}
