import { Button, PasswordInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import { api, take } from '../api/client';

export function SignInPage() {
  const [token, setToken] = useState('');
  const [params] = useSearchParams();
  const go = useNavigate();
  const queries = useQueryClient();
  const signIn = useMutation({
    mutationFn: () => take(api.POST('/api/v1/session', { body: { token } })),
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
  return (
    <main className="sign-in">
      <form onSubmit={submit}>
        <svg viewBox="0 0 20 20" aria-hidden="true">
          <path d="M0 20v-4h4v-4h4V8h4V4h4V0h4v20z" />
        </svg>
        <h1>Grand Stair</h1>
        {params.get('link') === 'used' && (
          <p className="form-error" role="alert">
            That link was used already, or is too old. Start the demo again for a new one, or sign in with a token.
          </p>
        )}
        <PasswordInput
          label="Token"
          description="The first one is in the service's data folder, in the file admin.token."
          value={token}
          onChange={(e) => setToken(e.currentTarget.value)}
          autoComplete="off"
          data-autofocus
        />
        {signIn.error && (
          <p className="form-error" role="alert">
            {signIn.error.message}
          </p>
        )}
        <Button type="submit" className="acts" loading={signIn.isPending} disabled={token.trim() === ''} fullWidth>
          Sign in
        </Button>
      </form>
    </main>
  );
}
