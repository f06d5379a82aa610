import { Link } from 'react-router';

export function NothingHere() {
  return (
    <>
      <h1>There is no such page</h1>
      <p className="under">
        The address may be mistyped, or come from another release. <Link to="/">The overview</Link> leads everywhere.
      </p>
    </>
  );
}
