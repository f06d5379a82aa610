import { Button } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { ReasonDialog } from '../parts/ReasonDialog';
import { many, time } from '../parts/words';

/** Takes machines out of the fleet. */
export function RemoveDialog({ machines, onClose, onDone }: { machines: string[]; onClose: () => void; onDone?: () => void }) {
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: (reason: string) => take(api.POST('/api/v1/fleet/removals', { body: { machines, reason } })),
    onSuccess: async () => {
      await queries.invalidateQueries();
      onClose();
      onDone?.();
    },
  });
  const what = machines.length === 1 ? machines[0] : many(machines.length, 'machine');
  return (
    <ReasonDialog
      title={`Remove ${what} from the fleet`}
      what={
        <>
          {machines.length > 1 && (
            <>
              {machines.slice(0, 8).join(', ')}
              {machines.length > 8 && ` and ${machines.length - 8} more`}.{' '}
            </>
          )}
          {machines.length === 1 ? 'It leaves' : 'They leave'} every list and every plan that still has to upgrade{' '}
          {machines.length === 1 ? 'it' : 'them'}. Runs, readings and audit entries stay, and {machines.length === 1 ? 'it' : 'each'} can be
          restored.
        </>
      }
      act={`Remove ${what}`}
      busy={remove.isPending}
      error={remove.error}
      onAct={(reason) => remove.mutate(reason)}
      onClose={onClose}
    />
  );
}

/** Says that a machine was removed, and offers to restore it. */
export function RemovedNote({
  id,
  name,
  removed,
  mayRestore,
}: {
  id: string;
  name: string;
  removed: Schemas['RemovalView'];
  mayRestore: boolean;
}) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const restore = useMutation({
    mutationFn: (reason: string) => take(api.POST('/api/v1/machines/{name}/restore', { params: { path: { name: id } }, body: { reason } })),
    onSuccess: async () => {
      await queries.invalidateQueries();
      setOpen(false);
    },
  });
  return (
    <div className="card above" role="status">
      <p>
        Removed from the fleet on {time(removed.at)} by {removed.by}: {removed.reason}
      </p>
      {mayRestore && (
        <Button variant="default" onClick={() => setOpen(true)}>
          Restore …
        </Button>
      )}
      {open && (
        <ReasonDialog
          title={`Restore ${name}`}
          what="It belongs to the fleet again. Plans that exempted it when it was removed do not take it back by themselves."
          act={`Restore ${name}`}
          busy={restore.isPending}
          error={restore.error}
          onAct={(reason) => restore.mutate(reason)}
          onClose={() => setOpen(false)}
        />
      )}
    </div>
  );
}
