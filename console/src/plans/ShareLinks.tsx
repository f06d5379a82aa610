import { Autocomplete, Button, Select } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { time, word } from '../parts/words';
import { useMay } from '../session/useSession';

const kinds = ['owner', 'site', 'crew', 'wave', 'plan'];

/** The share links to this plan's slots, for people without an account. */
export function ShareLinks({ view }: { view: Schemas['PlanView'] }) {
  const queries = useQueryClient();
  const may = useMay();
  const [making, setMaking] = useState(false);
  const [ending, setEnding] = useState<string>();
  const name = view.plan.name;
  const path = { name };
  const links = useQuery({
    queryKey: ['share-links', name],
    queryFn: () => take(api.GET('/api/v1/plans/{name}/share-links', { params: { path } })),
  });
  const done = () => queries.invalidateQueries({ queryKey: ['share-links', name] });
  const make = useMutation({
    mutationFn: (body: Schemas['ShareLinkCommand']) => take(api.POST('/api/v1/plans/{name}/share-links', { params: { path }, body })),
    onSuccess: () => {
      setMaking(false);
      done();
    },
  });
  const end = useMutation({
    mutationFn: (reason: string) =>
      take(api.POST('/api/v1/plans/{name}/share-links/{id}/end', { params: { path: { name, id: ending as string } }, body: { reason } })),
    onSuccess: () => {
      setEnding(undefined);
      done();
    },
  });
  const active = links.data?.filter((a) => a.state === 'active') ?? [];
  return (
    <section className="card">
      <h2>
        <span>Share links (no sign-in)</span>
        {may('MakeShareLink') && (
          <Button variant="default" size="xs" onClick={() => setMaking(true)}>
            Create share link …
          </Button>
        )}
      </h2>
      {links.error && <Problem of={links.error} />}
      {make.data && (
        <p className="told share-link-secret" role="status">
          Page: <code>{location.origin + make.data.page}</code>
          <br />
          Calendar: <code>{location.origin + make.data.calendar}</code>
          <br />
          This is {make.data.link.id}. It is shown only once; anyone who has it sees those slots.
        </p>
      )}
      {active.length === 0 && !make.data && (
        <p className="quiet">
          No links yet. A link gives an owner, site or crew their slots as a page and as a calendar that stays up to date.
        </p>
      )}
      <ul className="rows">
        {active.map((a) => (
          <li key={a.id}>
            <b>
              {word(a.kind)} {a.of}
            </b>{' '}
            <span className="quiet">
              {a.id}, created by {a.madeBy} · {a.lastUsed ? `last opened ${time(a.lastUsed)}` : 'never opened'}
            </span>{' '}
            {may('EndShareLink') && (
              <button type="button" className="plain link" onClick={() => setEnding(a.id)}>
                Revoke
              </button>
            )}
          </li>
        ))}
      </ul>
      {making && <MakeDialog view={view} busy={make.isPending} error={make.error} onMake={make.mutate} onClose={() => setMaking(false)} />}
      {ending && (
        <ReasonDialog
          title={`Revoke share link ${ending}`}
          what="The link stops working. Calendars that subscribed to it keep what they fetched last."
          act="Revoke link"
          busy={end.isPending}
          error={end.error}
          onAct={(reason) => end.mutate(reason)}
          onClose={() => setEnding(undefined)}
        />
      )}
    </section>
  );
}

function MakeDialog({
  view,
  busy,
  error,
  onMake,
  onClose,
}: {
  view: Schemas['PlanView'];
  busy: boolean;
  error: Error | null;
  onMake: (body: Schemas['ShareLinkCommand']) => void;
  onClose: () => void;
}) {
  const [kind, setKind] = useState('owner');
  const [of, setOf] = useState('');
  const key = kind === 'owner' || kind === 'site' ? kind : undefined;
  const values = useQuery({
    queryKey: ['share-link-values', view.plan.name, key],
    enabled: key !== undefined,
    queryFn: async () => {
      const members = await take(api.GET('/api/v1/machines', { params: { query: { filter: view.scope, limit: 1000 } } }));
      return [...new Set(members.items.map((m) => (key === 'owner' ? m.owner : m.site)))].filter(Boolean).sort();
    },
  });
  const data =
    kind === 'wave' ? view.waves.map((w) => w.name) : kind === 'crew' ? view.planning.crews.map((c) => c.name) : (values.data ?? []);
  return (
    <ReasonDialog
      title="Share link"
      what="Anyone who has the link sees those slots, as a page and as a calendar, and nothing else. Owners may reschedule there if the plan allows it."
      act="Create"
      busy={busy}
      error={error}
      without
      ready={kind === 'plan' || of.trim() !== ''}
      onAct={() => onMake({ kind, of })}
      onClose={onClose}
    >
      <Select
        label="For"
        data={kinds.filter((k) => k !== 'crew' || view.planning.crews.length > 0)}
        value={kind}
        onChange={(k) => {
          setKind(k ?? 'owner');
          setOf('');
        }}
        allowDeselect={false}
      />
      {kind !== 'plan' && <Autocomplete label="Which one" data={data} value={of} onChange={setOf} mt="sm" />}
    </ReasonDialog>
  );
}
