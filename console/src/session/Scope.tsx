/** The roles and sites of an account. */
export function Scope({ roles, sites }: { roles: readonly string[]; sites: readonly string[] }) {
  return (
    <>
      {roles.length === 0 ? <strong>no role</strong> : roles.join(', ')} <span className="quiet">at {where(sites)}</span>
    </>
  );
}

/** Sites as a text. */
export function where(sites: readonly string[]): string {
  if (sites.length === 1 && sites[0] === '*') return 'all sites';
  return sites.length === 0 ? 'no site' : sites.join(', ');
}
