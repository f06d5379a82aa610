import { Button, PasswordInput, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { time } from '../parts/words';
import { Scope } from './Scope';
import { useSession } from './useSession';

/** The signed-in account, its tokens and sessions. */
export function MePage() {
  const session = useSession();
  const go = useNavigate();
  const queries = useQueryClient();
  const signOut = useMutation({
    mutationFn: () => take(api.DELETE('/api/v1/session')),
    onSuccess: () => {
      queries.clear();
      go('/sign-in');
    },
  });
  if (failed(session)) return <Problem of={session.error} />;
  if (!session.data) return <Loading />;
  const me = session.data;
  return (
    <>
      <h1>
        You are <b>{me.actor}</b>
        <Button variant="default" size="xs" className="beside" loading={signOut.isPending} onClick={() => signOut.mutate()}>
          Sign out
        </Button>
      </h1>
      <p className="under">
        <Scope roles={me.roles} sites={me.sites} />
      </p>
      <div className="columns halves">
        <div className="stack">
          <Tokens account={me.actor} />
          <Sessions account={me.actor} />
        </div>
        {me.hasPassword && <Password />}
      </div>
    </>
  );
}

/** The tokens of an account. */
export function Tokens({ account }: { account?: string }) {
  const queries = useQueryClient();
  const [making, setMaking] = useState(false);
  const [ending, setEnding] = useState<string>();
  const query = account ? { account } : {};
  const tokens = useQuery({ queryKey: ['tokens', account], queryFn: () => take(api.GET('/api/v1/tokens', { params: { query } })) });
  const make = useMutation({
    mutationFn: (body: Schemas['TokenCommand']) => take(api.POST('/api/v1/tokens', { body })),
    onSuccess: () => {
      setMaking(false);
      queries.invalidateQueries({ queryKey: ['tokens'] });
    },
  });
  const end = useMutation({
    mutationFn: (reason: string) =>
      take(api.POST('/api/v1/tokens/{id}/end', { params: { path: { id: ending as string } }, body: { reason } })),
    onSuccess: () => {
      setEnding(undefined);
      queries.invalidateQueries({ queryKey: ['tokens'] });
    },
  });
  if (failed(tokens)) return <Problem of={tokens.error} />;
  const shown = tokens.data?.filter((t) => t.state === 'active') ?? [];
  return (
    <section className="card">
      <h2>
        <span>Tokens for programs</span>
        {account && (
          <Button variant="default" size="xs" onClick={() => setMaking(true)}>
            Create token …
          </Button>
        )}
      </h2>
      {make.data && (
        <p className="told" role="status">
          <code>{make.data.secret}</code>
          <br />
          This is {make.data.token.id}. It is shown only once. Store it where only its program can read it.
        </p>
      )}
      {shown.length === 0 ? (
        <p className="empty">No tokens.</p>
      ) : (
        <table>
          <thead>
            <tr>
              <th>Token</th>
              {!account && <th>Account</th>}
              <th>For</th>
              <th>May</th>
              <th>Ends</th>
              <th>Last used</th>
              <td />
            </tr>
          </thead>
          <tbody>
            {shown.map((t) => (
              <tr key={t.id}>
                <td>{t.id}</td>
                {!account && <td>{t.account}</td>}
                <td className="nowrap">{t.label}</td>
                <td>
                  <Scope roles={t.roles} sites={t.sites} />
                </td>
                <td className="nowrap">{t.expires ? time(t.expires) : 'never'}</td>
                <td>
                  {t.lastUsed ? time(t.lastUsed) : 'never'}
                  {t.lastFrom && <span className="quiet"> from {t.lastFrom}</span>}
                </td>
                <td className="num">
                  <Button variant="default" size="compact-xs" onClick={() => setEnding(t.id)} aria-label={`End ${t.id}`}>
                    End …
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {making && (
        <TokenDialog busy={make.isPending} error={make.error} onAct={(body) => make.mutate(body)} onClose={() => setMaking(false)} />
      )}
      {ending && (
        <ReasonDialog
          title={`End ${ending}`}
          what="Programs that use it are refused from now on."
          act="Revoke token"
          busy={end.isPending}
          error={end.error}
          onAct={(reason) => end.mutate(reason)}
          onClose={() => setEnding(undefined)}
        />
      )}
    </section>
  );
}

interface TokenProps {
  busy: boolean;
  error: Error | null;
  onAct: (body: Schemas['TokenCommand']) => void;
  onClose: () => void;
}

function TokenDialog({ busy, error, onAct, onClose }: TokenProps) {
  const [days, setDays] = useState('90');
  return (
    <ReasonDialog
      title="Make a token"
      what="It has your roles and sites until it expires."
      ask="What it is for"
      describes="Shown in the list of tokens."
      act="Create"
      busy={busy}
      error={error}
      ready={/^[1-9]\d*$/.test(days)}
      onAct={(label) => onAct({ label, days: Number(days) })}
      onClose={onClose}
    >
      <TextInput label="Expires after (days)" value={days} onChange={(e) => setDays(e.currentTarget.value)} inputMode="numeric" />
    </ReasonDialog>
  );
}

/** The active sessions. */
export function Sessions({ account }: { account?: string }) {
  const queries = useQueryClient();
  const query = account ? { account } : {};
  const sessions = useQuery({
    queryKey: ['sessions', account],
    queryFn: () => take(api.GET('/api/v1/sessions', { params: { query } })),
  });
  const end = useMutation({
    mutationFn: (id: string) => take(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['sessions'] }),
  });
  if (failed(sessions)) return <Problem of={sessions.error} />;
  return (
    <section className="card">
      <h2>{account ? 'Your sessions' : 'Sessions'}</h2>
      {end.error && <Problem of={end.error} />}
      {sessions.data?.length === 0 && <p className="empty">No sessions.</p>}
      <ul className="rows">
        {sessions.data?.map((s) => (
          <li key={s.id} className="line">
            <span title={s.agent}>
              {!account && <b>{s.account} </b>}
              {s.own ? 'This browser' : s.agent || 'no browser named'}
            </span>
            <span className="num">
              since {time(s.begun)} by {s.way} from {s.from}{' '}
              {!s.own && (
                <Button variant="default" size="compact-xs" loading={end.isPending} onClick={() => end.mutate(s.id)}>
                  End {s.id}
                </Button>
              )}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Password() {
  const [old, setOld] = useState('');
  const [next, setNext] = useState('');
  const change = useMutation({
    mutationFn: () => take(api.PUT('/api/v1/session/password', { body: { old, new: next } })),
    onSuccess: () => {
      setOld('');
      setNext('');
    },
  });
  return (
    <section className="card">
      <h2>Your password</h2>
      <form
        className="stack"
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate();
        }}
      >
        <PasswordInput
          label="Current password"
          value={old}
          onChange={(e) => setOld(e.currentTarget.value)}
          autoComplete="current-password"
        />
        <PasswordInput
          label="New password"
          description="12 to 200 characters; a passphrase of unrelated words works well."
          value={next}
          onChange={(e) => setNext(e.currentTarget.value)}
          autoComplete="new-password"
        />
        {change.error && (
          <p className="form-error" role="alert">
            {change.error.message}
          </p>
        )}
        {change.isSuccess && (
          <p className="small quiet" role="status">
            Password changed; your other sessions have ended.
          </p>
        )}
        <Button type="submit" className="acts" loading={change.isPending} disabled={old === '' || next === ''}>
          Change password
        </Button>
      </form>
    </section>
  );
}
