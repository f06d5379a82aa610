import { Link } from 'react-router';

export function NothingHere() {
  return (
    <>
      <h1>Page not found</h1>
      <p className="under">
        Check the address, or go to the <Link to="/">overview</Link>.
      </p>
    </>
  );
}
