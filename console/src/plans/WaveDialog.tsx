import { TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, asYaml, take } from '../api/client';
import { ReasonDialog } from '../parts/ReasonDialog';
import { clockMoment } from '../parts/words';
import { Comparison } from './Comparison';
import { textAt, understood, withValue } from './planText';
import { useSchedule } from './Schedule';

/** Sets the earliest start of a wave, and shows the effect before loading it as the next revision. */
export function WaveDialog({
  plan,
  number,
  wave,
  start,
  onClose,
}: {
  plan: string;
  number: number;
  wave: string;
  start?: string;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const path = { name: plan };
  const stored = useQuery({ queryKey: ['plan', plan], queryFn: () => take(api.GET('/api/v1/plans/{name}', { params: { path } })) });
  const now = useSchedule(plan);
  const body = stored.data?.body ?? '';
  const revision = stored.data?.planning.revision;
  const at = ['waves', number - 1, 'not-before'];
  const said = moment(textAt(understood(body), at));
  const [chosen, setChosen] = useState(start);
  const begin = chosen ?? said;
  const text = withValue(body, at, begin === '' ? undefined : begin.slice(0, 16).replace('T', ' '));
  const isChanged = stored.data !== undefined && text !== body;
  const comparison = useQuery({
    queryKey: ['comparison', text],
    enabled: isChanged,
    retry: false,
    queryFn: () => take(api.POST('/api/v1/plans/compare', asYaml(text))),
  });
  const load = useMutation({
    mutationFn: (reason: string) =>
      take(api.PUT('/api/v1/plans/{name}', { params: { path, query: { reason, after: revision } }, ...asYaml(text) })),
    onSuccess: () => {
      queries.invalidateQueries();
      onClose();
    },
  });
  return (
    <ReasonDialog
      title={`When ${wave} begins`}
      what={
        said
          ? `Currently it does not begin before ${said.slice(0, 16).replace('T', ' ')} UTC.`
          : 'Currently it begins as soon as the advance rule of the wave before holds.'
      }
      act="Load it"
      size="lg"
      busy={load.isPending}
      error={load.error ?? stored.error ?? comparison.error}
      ready={isChanged && comparison.data !== undefined}
      onAct={(reason) => load.mutate(reason)}
      onClose={onClose}
    >
      <TextInput
        type="datetime-local"
        label="Begins not before"
        description={`Times are in ${Intl.DateTimeFormat().resolvedOptions().timeZone}. Empty: as soon as possible.`}
        value={begin === '' ? '' : clockMoment(begin)}
        onChange={(e) => setChosen(e.currentTarget.value ? new Date(e.currentTarget.value).toISOString() : '')}
        mb="sm"
      />
      {isChanged && !comparison.data && !comparison.error && <p className="quiet">Calculating the impact …</p>}
      {isChanged && comparison.data && <Comparison of={comparison.data} endBefore={now.data?.end} isBrief />}
    </ReasonDialog>
  );
}

/** A moment of the plan's text (UTC unless it has an offset) as a Date field value; empty where there is none. */
function moment(text: string): string {
  const read = Date.parse(/^[\d-]+ [\d:]+$/.test(text) ? `${text.replace(' ', 'T')}Z` : text);
  return Number.isNaN(read) ? '' : new Date(read).toISOString();
}
