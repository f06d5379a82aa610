import { Select, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take } from '../api/client';
import { ReasonDialog } from '../parts/ReasonDialog';
import { word } from '../parts/words';
import { useMay } from '../session/useSession';

interface DialogProps {
  plan: string;
  machine: string;
  onClose: () => void;
}

interface Member {
  plan: string;
  machine: string;
  status: string;
  hasRun: boolean;
}

/** The actions for a machine that is not scheduled or has stopped: retry, method, exempt. */
export function MemberActions({ plan, machine, status, hasRun }: Member) {
  const may = useMay();
  const [asked, setAsked] = useState<'retry' | 'method' | 'exempt' | null>(null);
  const close = () => setAsked(null);
  const isStopped = status === 'stopped';
  return (
    <>
      {isStopped && may('GoAgain') && (
        <button type="button" className="plain link" aria-label={`Retry ${machine}`} onClick={() => setAsked('retry')}>
          Retry
        </button>
      )}{' '}
      {(!hasRun || isStopped) && status !== 'exempt' && may('ChooseMethod') && (
        <button type="button" className="plain link" aria-label={`Method of ${machine}`} onClick={() => setAsked('method')}>
          Method
        </button>
      )}{' '}
      {(status === 'not-ready' || isStopped) && may('ExemptMachine') && (
        <button type="button" className="plain link" aria-label={`Exempt ${machine}`} onClick={() => setAsked('exempt')}>
          Exempt
        </button>
      )}
      {asked === 'retry' && <RetryDialog plan={plan} machine={machine} onClose={close} />}
      {asked === 'method' && <MethodDialog plan={plan} machine={machine} onClose={close} />}
      {asked === 'exempt' && <ExemptDialog plan={plan} machine={machine} onClose={close} />}
    </>
  );
}

/** Chooses the method of one machine, in spite of the plan's order. */
function MethodDialog({ plan, machine, onClose }: DialogProps) {
  const queries = useQueryClient();
  const view = useQuery({
    queryKey: ['plan', plan],
    queryFn: () => take(api.GET('/api/v1/plans/{name}', { params: { path: { name: plan } } })),
  });
  const [method, setMethod] = useState('');
  const path = { name: plan, machine };
  const choose = useMutation({
    mutationFn: (reason: string) =>
      take(api.PUT('/api/v1/plans/{name}/members/{machine}/method', { params: { path }, body: { method: method || null, reason } })),
    onSuccess: () => {
      queries.invalidateQueries();
      onClose();
    },
  });
  return (
    <ReasonDialog
      title={`Method of ${machine}`}
      what="A method that does not suit the machine is refused. An approved plan needs another approval."
      act="Use this method"
      busy={choose.isPending}
      error={choose.error}
      onAct={(reason) => choose.mutate(reason)}
      onClose={onClose}
    >
      <Select
        label="Method"
        data={[
          ...(view.data?.methods ?? []).map((m) => ({ value: m, label: word(m) })),
          { value: '', label: 'the plan’s order of preference' },
        ]}
        value={method}
        onChange={(value) => setMethod(value ?? '')}
        allowDeselect={false}
        mt="sm"
      />
    </ReasonDialog>
  );
}

/** Opens another run for a machine whose run stopped without success. */
function RetryDialog({ plan, machine, onClose }: DialogProps) {
  const queries = useQueryClient();
  const again = useMutation({
    mutationFn: (reason: string) =>
      take(api.POST('/api/v1/plans/{name}/members/{machine}/again', { params: { path: { name: plan, machine } }, body: { reason } })),
    onSuccess: () => {
      queries.invalidateQueries();
      onClose();
    },
  });
  return (
    <ReasonDialog
      title={`Retry ${machine}`}
      what="It gets another run and a slot in its wave, once its gate is open."
      act="Retry"
      busy={again.isPending}
      error={again.error}
      onAct={(reason) => again.mutate(reason)}
      onClose={onClose}
    />
  );
}

const exemptions = [
  { value: 'replaced', label: 'replaced by another machine' },
  { value: 'retired', label: 'retired' },
  { value: 'stays', label: 'stays on its release until a date' },
];

function ExemptDialog({ plan, machine, onClose }: DialogProps) {
  const queries = useQueryClient();
  const [as, setAs] = useState('replaced');
  const [until, setUntil] = useState('');
  const exemption = useMutation({
    mutationFn: (reason: string) =>
      take(
        api.POST('/api/v1/plans/{name}/members/{machine}/exemption', {
          params: { path: { name: plan, machine } },
          body: { as, reason, until: as === 'stays' ? until : null },
        }),
      ),
    onSuccess: () => {
      queries.invalidateQueries();
      onClose();
    },
  });
  return (
    <ReasonDialog
      title={`Exempt ${machine}`}
      what="It will not be upgraded by this plan, and no longer counts as open."
      act="Exempt"
      busy={exemption.isPending}
      error={exemption.error}
      ready={as !== 'stays' || until !== ''}
      onAct={(reason) => exemption.mutate(reason)}
      onClose={onClose}
    >
      <Select label="It is" data={exemptions} value={as} onChange={(value) => setAs(value ?? as)} allowDeselect={false} mt="sm" />
      {as === 'stays' && <TextInput type="date" label="Until" value={until} onChange={(e) => setUntil(e.currentTarget.value)} mt="sm" />}
    </ReasonDialog>
  );
}
