import { ServiceProblem } from '../api/client';

/** What went wrong, in the service's own words. */
export function Problem({ of }: { of: Error }) {
  const away = of instanceof ServiceProblem && of.status === 0;
  const denied = of instanceof ServiceProblem && of.status === 403;
  return (
    <div className="problem" role="alert">
      <strong>{away ? 'Cannot reach the service' : denied ? 'Not allowed' : 'That did not work'}</strong>
      <p>{of.message}</p>
    </div>
  );
}

/** While the first answer is on its way. */
export function Loading() {
  return (
    <p className="quiet loading" aria-live="polite">
      Loading …
    </p>
  );
}
