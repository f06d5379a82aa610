import { useQuery } from '@tanstack/react-query';
import { api, take } from '../api/client';

const AGAIN = 15_000;

/** The session: account, rights, and the service's clock. */
export function useSession() {
  return useQuery({ queryKey: ['fixed', 'session'], queryFn: () => take(api.GET('/api/v1/session')), refetchInterval: AGAIN });
}

/** Whether the account may make a call, by its operation id. Calls that are not allowed are not offered. */
export function useMay(): (call: string) => boolean {
  const calls = useSession().data?.calls;
  return (call) => calls?.includes(call) ?? false;
}
