import { ServiceProblem } from '../api/client';

/**
 * Whether a page can show nothing but its error. During an outage, pages keep the data that they have, with a notice above them
 * that it may be old. A page whose object is gone, or no longer allowed, shows the error.
 */
export function failed<Query extends { error: Error | null; data: unknown }>(query: Query): query is Query & { error: Error } {
  const { error, data } = query;
  return error !== null && (data === undefined || (error instanceof ServiceProblem && error.status >= 400 && error.status < 500));
}

/** An error, as the service describes it. */
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

/** Shown until the first answer arrives. */
export function Loading() {
  return (
    <p className="quiet loading" aria-live="polite">
      Loading …
    </p>
  );
}
