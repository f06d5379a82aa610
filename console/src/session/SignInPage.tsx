import { Button, PasswordInput, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useEffect, useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import { api, take } from '../api/client';

export function SignInPage() {
  const [account, setAccount] = useState('');
  const [password, setPassword] = useState('');
  const [token, setToken] = useState('');
  const [params, setParams] = useSearchParams();
  const go = useNavigate();
  const queries = useQueryClient();
  const ways = useQuery({ queryKey: ['fixed', 'ways'], queryFn: () => take(api.GET('/api/v1/sign-in-ways')) });
  useEffect(() => {
    document.title = 'Sign in · Grand Stair';
  }, []);
  const byToken = params.get('by') === 'token';
  const signIn = useMutation({
    mutationFn: () => take(api.POST('/api/v1/session', { body: byToken ? { token } : { account, password } })),
    onSuccess: () => {
      queries.clear();
      const to = params.get('to') ?? '/';
      go(to.startsWith('/') && !to.startsWith('//') ? to : '/');
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    signIn.mutate();
  };
  const other = (by: string | null) => {
    signIn.reset();
    if (by) params.set('by', by);
    else params.delete('by');
    setParams(params, { replace: true });
  };
  const trouble = troubleOf(params, ways.data?.provider ?? null) ?? signIn.error?.message;
  return (
    <main className="sign-in">
      <form onSubmit={submit}>
        <svg viewBox="0 0 20 20" aria-hidden="true">
          <path d="M0 20v-4h4v-4h4V8h4V4h4V0h4v20z" />
        </svg>
        <h1>Grand Stair</h1>
        {trouble && (
          <p className="form-error" role="alert">
            {trouble}
          </p>
        )}
        {ways.data?.start && (
          <>
            <Button component="a" href={ways.data.start} className="acts" fullWidth>
              Sign in by {ways.data.provider}
            </Button>
            <p className="or">or with an account of this service</p>
          </>
        )}
        {byToken ? (
          <PasswordInput
            key="token"
            label="Token"
            description="The first one is in the service's data folder, in the file admin.token."
            value={token}
            onChange={(e) => setToken(e.currentTarget.value)}
            autoComplete="off"
            data-autofocus
          />
        ) : (
          <>
            <TextInput
              label="Account"
              value={account}
              onChange={(e) => setAccount(e.currentTarget.value)}
              autoComplete="username"
              data-autofocus
            />
            <PasswordInput
              key="password"
              label="Password"
              value={password}
              onChange={(e) => setPassword(e.currentTarget.value)}
              autoComplete="current-password"
            />
          </>
        )}
        <Button
          type="submit"
          className={ways.data?.start ? undefined : 'acts'}
          variant={ways.data?.start ? 'default' : undefined}
          loading={signIn.isPending}
          disabled={byToken ? token.trim() === '' : account.trim() === '' || password === ''}
          fullWidth
        >
          Sign in
        </Button>
        <button type="button" className="plain link" onClick={() => other(byToken ? null : 'token')}>
          {byToken ? 'Sign in with a password' : 'Sign in with a token'}
        </button>
      </form>
    </main>
  );
}

/** Errors of the redirect back from an identity provider. */
function troubleOf(params: URLSearchParams, provider: string | null): string | null {
  if (params.get('link') === 'used')
    return 'That link was used already, or is too old. Start the demo again for a new one, or sign in with a token.';
  if (params.get('provider') === 'failed')
    return `Signing in by ${provider ?? 'the provider'} did not come to its end. Try it again; if it goes on so, the service's log says why.`;
  if (params.get('provider') === 'away')
    return `${provider ?? 'The provider'} does not answer just now. Try it again in a while, or sign in with an account of this service.`;
  if (params.get('provider') === 'refused')
    return `${provider ?? 'The provider'} knows you, but you have no account here, or it has ended. Ask an admin.`;
  return null;
}
