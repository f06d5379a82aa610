import { TextInput } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take } from '../api/client';
import { ReasonDialog } from '../parts/ReasonDialog';
import { useCommand } from '../parts/useCommand';

/** Lets the service download a file from an allowed host. */
export function DownloadDialog({ onClose }: { onClose: () => void }) {
  const [url, setUrl] = useState('');
  const [sha256, setSha256] = useState('');
  const settings = useQuery({ queryKey: ['settings'], queryFn: () => take(api.GET('/api/v1/settings')) });
  const hosts = settings.data?.mediaHosts ?? [];
  const download = useCommand(
    () => take(api.POST('/api/v1/media-downloads', { body: { url: url.trim(), sha256: sha256.trim() || null } })),
    onClose,
  );
  return (
    <ReasonDialog
      title="Download media"
      what={
        hosts.length > 0
          ? `The service downloads the file itself. Allowed hosts: ${hosts.join(', ')}.`
          : 'No host is allowed yet. An admin allows hosts with: gstair setting change --media-hosts.'
      }
      without
      act="Download"
      ready={url.trim() !== ''}
      busy={download.isPending}
      error={download.error}
      onAct={() => download.mutate(undefined)}
      onClose={onClose}
    >
      <TextInput label="URL" value={url} onChange={(e) => setUrl(e.currentTarget.value)} data-autofocus />
      <TextInput
        label="SHA-256"
        description="As the vendor states it; empty where the catalogue names the file."
        value={sha256}
        onChange={(e) => setSha256(e.currentTarget.value)}
        mt="sm"
      />
    </ReasonDialog>
  );
}
