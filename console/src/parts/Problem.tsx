import { ServiceProblem } from '../api/client';

/**
 * Whether a page has nothing to show but its error. While the service is away what was read last stays on the page, with a notice above
 * that it may be old; what was taken away or is not allowed any more goes.
 */
export function failed<Query extends { error: Error | null; data: unknown }>(query: Query): query is Query & { error: Error } {
  const { error, data } = query;
  return error !== null && (data === undefined || (error instanceof ServiceProblem && error.status >= 400 && error.status < 500));
}

/** What went wrong, in the service's own words. */
export function Problem({ of }: { of: Error }) {
  const away = of instanceof ServiceProblem && of.status === 0;
  const denied = of instanceof ServiceProblem && of.status === 403;
  const problems = of instanceof ServiceProblem ? of.problems : [];
  return (
    <div className="problem" role="alert">
      <strong>{away ? 'Cannot reach the service' : denied ? 'Not allowed' : 'That did not work'}</strong>
      <p>{of.message}</p>
      {problems.length > 0 && (
        <ul>
          {problems.map((problem) => (
            <li key={`${problem.line} ${problem.column} ${problem.message}`}>
              {problem.line > 0 && `Line ${problem.line}: `}
              {problem.message}
            </li>
          ))}
        </ul>
      )}
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
