import { NavLink, useParams } from 'react-router';
import { NothingHere } from '../parts/NothingHere';
import { useMay } from '../session/useSession';
import { Accounts } from './Accounts';
import { Catalogue } from './Catalogue';
import { HostKeys } from './HostKeys';
import { Secrets } from './Secrets';

const parts = [
  ['accounts', 'Accounts', 'ListAccounts'],
  ['host-keys', 'Host keys', 'ListHostKeys'],
  ['scripts', 'Scripts', 'ListScriptUses'],
  ['secrets', 'Secrets', 'ListSecrets'],
] as const;

/** Accounts, rights, and what is trusted. */
export function AccessPage() {
  const may = useMay();
  const shown = parts.filter(([, , call]) => may(call));
  const part = useParams().part ?? shown[0]?.[0];
  if (!shown.some(([to]) => to === part)) return <NothingHere />;
  return (
    <>
      <nav className="parts" aria-label="Access">
        {shown.map(([to, name], i) => (
          <NavLink key={to} to={i === 0 && part === to ? '/access' : `/access/${to}`} className={part === to ? 'active' : ''}>
            {name}
          </NavLink>
        ))}
      </nav>
      {part === 'accounts' && <Accounts />}
      {part === 'host-keys' && <HostKeys />}
      {part === 'scripts' && <Catalogue />}
      {part === 'secrets' && <Secrets />}
    </>
  );
}
