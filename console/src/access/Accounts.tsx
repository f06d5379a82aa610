import { Button, Checkbox, PasswordInput, TagsInput, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { time } from '../parts/words';
import { Sessions, Tokens } from '../session/MePage';
import { where } from '../session/Scope';
import { useMay } from '../session/useSession';

const ROLES = [
  ['reader', 'looks'],
  ['auditor', 'reads the audit log'],
  ['planner', 'imports machines, writes plans'],
  ['approver', 'acknowledges, waives, approves scripts'],
  ['operator', 'starts plans, decides about runs, runs fix scripts'],
  ['admin', 'manages accounts, secrets, host keys'],
] as const;

type Account = Schemas['AccountView'];
type Doing = { what: 'add' } | { what: 'change' | 'end' | 'password'; account: Account };

export function Accounts() {
  const may = useMay();
  const [doing, setDoing] = useState<Doing>();
  const accounts = useQuery({ queryKey: ['accounts'], queryFn: () => take(api.GET('/api/v1/accounts')) });
  if (failed(accounts)) return <Problem of={accounts.error} />;
  if (!accounts.data) return <Loading />;
  const active = accounts.data.filter((a) => !a.ended);
  const keeps = may('ChangeAccount');
  const admins = active.filter((a) => a.roles.includes('admin')).length;
  return (
    <>
      <h1>
        <b>{active.length}</b> accounts, <b>{admins}</b> of them {admins === 1 ? 'an admin' : 'admins'}
        {may('AddAccount') && (
          <Button className="acts beside" size="xs" onClick={() => setDoing({ what: 'add' })}>
            Add an account …
          </Button>
        )}
      </h1>
      <p className="under">A person signs in; a program calls with a token. Accounts see only the sites they are assigned.</p>
      <section className="card">
        <table className="accounts">
          <thead>
            <tr>
              <th>Account</th>
              <th>Kind</th>
              <th>May</th>
              <th>Sees</th>
              <th>Authentication</th>
              <th>Last used</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {active.map((a) => (
              <tr key={a.name}>
                <td>
                  <b>{a.name}</b>
                </td>
                <td>{a.kind}</td>
                <td>{a.roles.join(', ') || <strong>nothing</strong>}</td>
                <td>{where(a.sites)}</td>
                <td>{a.provider ?? (a.hasPassword ? 'password' : 'token')}</td>
                <td>{a.lastUsed ? time(a.lastUsed) : <span className="quiet">never</span>}</td>
                <td className="num nowrap">
                  {keeps && !a.provider && (
                    <>
                      <Button variant="default" size="compact-xs" onClick={() => setDoing({ what: 'change', account: a })}>
                        Change …
                      </Button>{' '}
                      {a.kind === 'person' && (
                        <Button variant="default" size="compact-xs" onClick={() => setDoing({ what: 'password', account: a })}>
                          Password …
                        </Button>
                      )}{' '}
                    </>
                  )}
                  {keeps && (
                    <Button variant="default" size="compact-xs" onClick={() => setDoing({ what: 'end', account: a })}>
                      End …
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      {keeps && (
        <div className="columns halves below">
          <Tokens />
          <Sessions />
        </div>
      )}
      {doing && <AccountDialog doing={doing} onClose={() => setDoing(undefined)} />}
    </>
  );
}

function AccountDialog({ doing, onClose }: { doing: Doing; onClose: () => void }) {
  const queries = useQueryClient();
  const before = doing.what === 'add' ? undefined : doing.account;
  const [name, setName] = useState('');
  const [program, setProgram] = useState(false);
  const [roles, setRoles] = useState<string[]>([...(before?.roles ?? ['reader'])]);
  const [sites, setSites] = useState<string[]>([...(before?.sites ?? ['*'])]);
  const [password, setPassword] = useState('');
  const path = { params: { path: { name: before?.name ?? '' } } };
  const act = useMutation({
    mutationFn: async (reason: string): Promise<unknown> => {
      if (doing.what === 'add')
        return take(api.POST('/api/v1/accounts', { body: { name, kind: program ? 'program' : 'person', roles, sites, reason } }));
      if (doing.what === 'change') return take(api.PUT('/api/v1/accounts/{name}', { ...path, body: { roles, sites, reason } }));
      if (doing.what === 'password') return take(api.PUT('/api/v1/accounts/{name}/password', { ...path, body: { password } }));
      return take(api.POST('/api/v1/accounts/{name}/end', { ...path, body: { reason } }));
    },
    onSuccess: () => {
      queries.invalidateQueries();
      onClose();
    },
  });
  const shared = { busy: act.isPending, error: act.error, onAct: (reason: string) => act.mutate(reason), onClose };
  if (doing.what === 'end')
    return (
      <ReasonDialog
        title={`End ${before?.name}`}
        what="All its sessions and tokens end at once. Its name stays in the audit log."
        act="End it"
        {...shared}
      />
    );
  if (doing.what === 'password')
    return (
      <ReasonDialog
        title={`A password for ${before?.name}`}
        what="Its other sessions end."
        act="Set it"
        ready={password.length > 0}
        without
        {...shared}
      >
        <PasswordInput
          label="Password"
          description="12 to 200 characters; a passphrase of unrelated words works well."
          value={password}
          onChange={(e) => setPassword(e.currentTarget.value)}
          autoComplete="new-password"
          data-autofocus
        />
      </ReasonDialog>
    );
  return (
    <ReasonDialog
      title={doing.what === 'add' ? 'Add an account' : `Change ${before?.name}`}
      what={doing.what === 'add' ? 'Then give it a password or a token.' : 'Its sessions and tokens are limited to this at once.'}
      act={doing.what === 'add' ? 'Add it' : 'Change it'}
      ready={(doing.what !== 'add' || name.trim() !== '') && roles.length > 0 && sites.length > 0}
      {...shared}
    >
      {doing.what === 'add' && (
        <>
          <TextInput label="Name" value={name} onChange={(e) => setName(e.currentTarget.value)} data-autofocus autoComplete="off" />
          <Checkbox label="Program account" mt="xs" checked={program} onChange={(e) => setProgram(e.currentTarget.checked)} />
        </>
      )}
      <Checkbox.Group label="Roles" mt="xs" value={roles} onChange={setRoles}>
        {ROLES.map(([role, does]) => (
          <Checkbox key={role} value={role} label={`${role}: ${does}`} size="xs" mt={4} />
        ))}
      </Checkbox.Group>
      <TagsInput label="Sites" description="'*' is all sites." mt="xs" value={sites} onChange={setSites} />
    </ReasonDialog>
  );
}
