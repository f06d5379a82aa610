import { useMutation, useQueryClient } from '@tanstack/react-query';

/** Sends a command. Once it is done, everything on show is fetched again, and its dialog closes. */
export function useCommand<T>(call: (sent: T) => Promise<unknown>, onDone: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: call,
    onSuccess: async () => {
      await queries.invalidateQueries();
      onDone();
    },
  });
}
