import { useQuery } from '@tanstack/react-query';
import { api, take } from '../api/client';

const AGAIN = 15_000;

/** Who one is, what one may, and the service's clock. */
export function useSession() {
  return useQuery({ queryKey: ['fixed', 'session'], queryFn: () => take(api.GET('/api/v1/session')), refetchInterval: AGAIN });
}

/** Whether one may make a call, by its name in the interface's description. What one may not is not offered. */
export function useMay(): (call: string) => boolean {
  const calls = useSession().data?.calls;
  return (call) => calls?.includes(call) ?? false;
}
