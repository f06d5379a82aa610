import { Button, Checkbox, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { useMay } from '../session/useSession';
import { Problem } from './Problem';
import { ReasonDialog } from './ReasonDialog';
import { time } from './words';

interface Target {
  plan?: string;
  product?: string;
}

/** The actions for one check on one machine: recheck, run its fix script, waive. */
export function CheckActions({ machine, check, target }: { machine: string; check: Schemas['CheckView']; target: Target }) {
  const queries = useQueryClient();
  const may = useMay();
  const [waiving, setWaiving] = useState(false);
  const [fixing, setFixing] = useState(false);
  const call = { params: { path: { name: machine, check: check.name }, query: target } };
  const done = () => {
    setWaiving(false);
    setFixing(false);
    queries.invalidateQueries();
  };
  const again = useMutation({
    mutationFn: () => take(api.POST('/api/v1/machines/{name}/checks/{check}/recheck', call)),
    onSettled: done,
  });
  const fix = useMutation({
    mutationFn: (body: Schemas['FixCommand']) => take(api.POST('/api/v1/machines/{name}/checks/{check}/fixes', { ...call, body })),
    onSuccess: done,
  });
  const waive = useMutation({
    mutationFn: (body: Schemas['WaiveCommand']) => take(api.POST('/api/v1/machines/{name}/checks/{check}/waivers', { ...call, body })),
    onSuccess: done,
  });
  return (
    <>
      <div className="actions start">
        {may('Recheck') && (
          <Button className="acts" size="xs" loading={again.isPending} onClick={() => again.mutate()}>
            Recheck
          </Button>
        )}
        {check.fix.script && may('FixCheck') && (
          <Button variant="default" size="xs" onClick={() => setFixing(true)}>
            Run fix script {check.fix.script} …
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
          {fix.data.notBefore
            ? `Fix ${fix.data.id} runs in the machine’s next window, from ${time(fix.data.notBefore)}.`
            : `Fix ${fix.data.id} is running; the check is evaluated again when it has ended.`}
        </p>
      )}
      {again.error && <Problem of={again.error} />}
      {fixing && (
        <FixDialog
          machine={machine}
          check={check}
          hasPlan={target.plan !== undefined}
          busy={fix.isPending}
          error={fix.error}
          onFix={(body) => fix.mutate(body)}
          onClose={() => setFixing(false)}
        />
      )}
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

interface FixProps {
  machine: string;
  check: Schemas['CheckView'];
  hasPlan: boolean;
  busy: boolean;
  error: Error | null;
  onFix: (body: Schemas['FixCommand']) => void;
  onClose: () => void;
}

/** Confirms a fix script: what it does to the machine, and when. */
function FixDialog({ machine, check, hasPlan, busy, error, onFix, onClose }: FixProps) {
  const [now, setNow] = useState(false);
  const { restarts, script, words } = check.fix;
  return (
    <ReasonDialog
      title={`Run ${script} on ${machine}`}
      what={
        <>
          <b>{words}</b> {restarts ? 'The script restarts the machine.' : 'The script runs at once and does not restart the machine.'}
        </>
      }
      act={restarts && !now ? 'Run in its next window' : 'Run the script'}
      busy={busy}
      error={error}
      ready={!restarts || now || hasPlan}
      onAct={(reason) => onFix({ reason, now })}
      onClose={onClose}
    >
      {restarts && (
        <Checkbox
          label="Run it at once and restart the machine outside of its window"
          description={hasPlan ? undefined : 'Without a plan the machine has no window.'}
          checked={now}
          onChange={(e) => setNow(e.currentTarget.checked)}
        />
      )}
    </ReasonDialog>
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
