import { Button, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { useMay } from '../session/useSession';
import { Problem } from './Problem';
import { ReasonDialog } from './ReasonDialog';

interface Target {
  plan?: string;
  product?: string;
}

/** What can be done about one check on one machine: ask it again, let its script fix it, waive it. */
export function CheckActions({ machine, check, target }: { machine: string; check: Schemas['CheckView']; target: Target }) {
  const queries = useQueryClient();
  const may = useMay();
  const [waiving, setWaiving] = useState(false);
  const call = { params: { path: { name: machine, check: check.name }, query: target } };
  const done = () => {
    setWaiving(false);
    queries.invalidateQueries();
  };
  const again = useMutation({
    mutationFn: () => take(api.POST('/api/v1/machines/{name}/checks/{check}/recheck', call)),
    onSettled: done,
  });
  const fix = useMutation({ mutationFn: () => take(api.POST('/api/v1/machines/{name}/checks/{check}/fixes', call)), onSuccess: done });
  const waive = useMutation({
    mutationFn: (body: Schemas['WaiveCommand']) => take(api.POST('/api/v1/machines/{name}/checks/{check}/waivers', { ...call, body })),
    onSuccess: done,
  });
  const problem = again.error ?? fix.error;
  return (
    <>
      <div className="actions start">
        {may('Recheck') && (
          <Button className="acts" size="xs" loading={again.isPending} onClick={() => again.mutate()}>
            Recheck
          </Button>
        )}
        {check.fix.script && may('FixCheck') && (
          <Button variant="default" size="xs" loading={fix.isPending} onClick={() => fix.mutate()}>
            Run fix script {check.fix.script}
          </Button>
        )}
        {check.waivable && !check.waiver && may('WaiveCheck') && (
          <Button variant="default" size="xs" onClick={() => setWaiving(true)}>
            Waive …
          </Button>
        )}
      </div>
      {fix.data && (
        <p className="small quiet" role="status">
          Fix {fix.data.id} is running; the check is evaluated again when it has ended.
        </p>
      )}
      {problem && <Problem of={problem} />}
      {waiving && (
        <WaiveDialog
          machine={machine}
          check={check}
          busy={waive.isPending}
          error={waive.error}
          onWaive={(body) => waive.mutate(body)}
          onClose={() => setWaiving(false)}
        />
      )}
    </>
  );
}

interface WaiveProps {
  machine: string;
  check: Schemas['CheckView'];
  busy: boolean;
  error: Error | null;
  onWaive: (body: Schemas['WaiveCommand']) => void;
  onClose: () => void;
}

function WaiveDialog({ machine, check, busy, error, onWaive, onClose }: WaiveProps) {
  const [until, setUntil] = useState('');
  return (
    <ReasonDialog
      title={`Waive on ${machine}`}
      what={
        <>
          <b>{check.title}.</b> The gate counts it as met until that day. It blocks again if the value gets worse or the check changes.
        </>
      }
      act="Waive it"
      busy={busy}
      error={error}
      ready={until.trim() !== ''}
      onAct={(reason) => onWaive({ reason, until: until.trim() })}
      onClose={onClose}
    >
      <TextInput
        label="Until"
        description="The last day on which it counts, such as 2027-02-28."
        placeholder="2027-02-28"
        value={until}
        onChange={(e) => setUntil(e.currentTarget.value)}
        data-autofocus
      />
    </ReasonDialog>
  );
}
