import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { Schemas } from '../api/client';

/** Carries a command out for several things; why some were refused is the dialog's error, and the others are done. */
export function useBulk<T>(call: (sent: T) => Promise<Schemas['BulkResult']>, onDone: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (sent: T) => {
      const done = await call(sent);
      await queries.invalidateQueries();
      if (done.refused.length > 0) throw new Error(done.refused.join(' '));
    },
    onSuccess: onDone,
  });
}
