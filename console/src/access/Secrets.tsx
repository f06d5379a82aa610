import { Button, PasswordInput, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { time } from '../parts/words';

/** Keys and passwords that the service uses. They are write-only. */
export function Secrets() {
  const queries = useQueryClient();
  const [putting, setPutting] = useState(false);
  const [removing, setRemoving] = useState<string>();
  const [name, setName] = useState('');
  const [value, setValue] = useState('');
  const secrets = useQuery({ queryKey: ['secrets'], queryFn: () => take(api.GET('/api/v1/secrets')) });
  const done = () => {
    setPutting(false);
    setRemoving(undefined);
    setValue('');
    queries.invalidateQueries({ queryKey: ['secrets'] });
  };
  const put = useMutation({
    mutationFn: () => take(api.PUT('/api/v1/secrets/{name}', { params: { path: { name } }, body: { value } })),
    onSuccess: done,
  });
  const remove = useMutation({
    mutationFn: (reason: string) =>
      take(api.POST('/api/v1/secrets/{name}/remove', { params: { path: { name: removing ?? '' } }, body: { reason } })),
    onSuccess: done,
  });
  const rotate = useMutation({ mutationFn: () => take(api.POST('/api/v1/secrets/rotate')), onSuccess: done });
  if (failed(secrets)) return <Problem of={secrets.error} />;
  if (!secrets.data) return <Loading />;
  return (
    <>
      <h1>
        <b>{secrets.data.length}</b> {secrets.data.length === 1 ? 'secret' : 'secrets'}
        <Button className="acts beside" size="xs" onClick={() => setPutting(true)}>
          Add secret …
        </Button>
        {secrets.data.length > 0 && (
          <Button variant="default" className="beside" size="xs" loading={rotate.isPending} onClick={() => rotate.mutate()}>
            Rotate encryption key
          </Button>
        )}
      </h1>
      <p className="under">
        Write-only. Refer to a secret by name in the fleet and the catalogue, and as <code>secret:NAME</code> in sources.
      </p>
      {rotate.error && <Problem of={rotate.error} />}
      {rotate.data && (
        <p className="told" role="status">
          {rotate.data.secrets} secrets are encrypted with a new key; the old keys are deleted.
        </p>
      )}
      <section className="card">
        {secrets.data.length === 0 ? (
          <p className="empty">No secrets yet.</p>
        ) : (
          <table>
            <thead>
              <tr>
                <th>Secret</th>
                <th>Changed</th>
                <th>By</th>
                <th>Last used</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {secrets.data.map((s) => (
                <tr key={s.name}>
                  <td>
                    <code>{s.name}</code>
                  </td>
                  <td>{time(s.changed)}</td>
                  <td>{s.changedBy}</td>
                  <td>{s.lastUsed ? time(s.lastUsed) : 'never'}</td>
                  <td className="num">
                    <Button variant="default" size="compact-xs" onClick={() => setRemoving(s.name)} aria-label={`Delete ${s.name}`}>
                      Delete …
                    </Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </section>
      {putting && (
        <ReasonDialog
          title="Add secret"
          what="Adds a secret or replaces the one with that name. For a key from a file: gstair secret put NAME --file FILE."
          act="Save"
          without
          ready={name.trim() !== '' && value !== ''}
          busy={put.isPending}
          error={put.error}
          onAct={() => put.mutate()}
          onClose={() => setPutting(false)}
        >
          <TextInput label="Name" value={name} onChange={(e) => setName(e.currentTarget.value)} data-autofocus autoComplete="off" />
          <PasswordInput label="Secret" value={value} onChange={(e) => setValue(e.currentTarget.value)} autoComplete="off" />
        </ReasonDialog>
      )}
      {removing && (
        <ReasonDialog
          title={`Take ${removing} away`}
          what="Whatever refers to it fails the next time it needs it."
          act="Delete"
          busy={remove.isPending}
          error={remove.error}
          onAct={(reason) => remove.mutate(reason)}
          onClose={() => setRemoving(undefined)}
        />
      )}
    </>
  );
}
