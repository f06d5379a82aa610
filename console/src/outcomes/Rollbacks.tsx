import { Autocomplete } from '@mantine/core';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { MachineLink } from '../parts/MachineLink';
import { ReasonDialog } from '../parts/ReasonDialog';
import { SelectAll, SelectOne, useSelection } from '../parts/Selection';
import { useBulk } from '../parts/useBulk';
import { many, time } from '../parts/words';
import { useMay } from '../session/useSession';

const none = 'no category yet';

/** Why machines were rolled back: how many for what kind of reason, and each in the words of the person who decided it. */
export function Rollbacks({ of }: { of: Schemas['RollbackRow'][] }) {
  const may = useMay();
  const selection = useSelection();
  const [asked, setAsked] = useState(false);
  const picked = of.map((row) => row.run).filter((run) => selection.has(run));
  const counts = new Map<string, number>();
  for (const { category } of of) counts.set(category ?? none, (counts.get(category ?? none) ?? 0) + 1);
  return (
    <section className="card" aria-label="Rolled back">
      <h2>
        Rolled back{' '}
        <span className="quiet">
          {[...counts]
            .sort(([, a], [, b]) => b - a)
            .map(([category, count]) => `${category} ${count}`)
            .join(' · ')}
        </span>
      </h2>
      {may('CategoriseRollbacks') && of.length > 1 && (
        <p>
          <SelectAll of={of.map((row) => row.run)} in={selection} />
        </p>
      )}
      {picked.length > 0 && (
        <p className="targets picked">
          {many(picked.length, 'rollback')} selected:{' '}
          <button type="button" className="plain link" onClick={() => setAsked(true)}>
            Set category
          </button>
        </p>
      )}
      <table>
        <tbody>
          {of.map((row) => (
            <tr key={row.run}>
              {may('CategoriseRollbacks') && (
                <td>
                  <SelectOne of={row.run} label={`Select the rollback of ${row.machine}`} in={selection} />
                </td>
              )}
              <td>
                <MachineLink name={row.machine} /> <Link to={`/runs/${row.run}`}>{row.run}</Link>, {time(row.closed)}
                <div className="quiet">
                  {row.reason} · {row.category ?? none}
                </div>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {asked && (
        <CategoryDialog
          runs={picked}
          known={[...counts.keys()].filter((category) => category !== none)}
          onClose={() => setAsked(false)}
          onDone={() => {
            setAsked(false);
            selection.clear();
          }}
        />
      )}
    </section>
  );
}

interface DialogProps {
  runs: string[];
  known: string[];
  onClose: () => void;
  onDone: () => void;
}

function CategoryDialog({ runs, known, onClose, onDone }: DialogProps) {
  const [category, setCategory] = useState('');
  const set = useBulk(() => take(api.POST('/api/v1/rollbacks/categorise', { body: { runs, category } })), onDone);
  return (
    <ReasonDialog
      title={`Category of ${many(runs.length, 'rollback')}`}
      what="What kind of reason is it? Rollbacks with the same words are counted together."
      without
      act="Set category"
      ready={category.trim() !== ''}
      busy={set.isPending}
      error={set.error}
      onAct={() => set.mutate('')}
      onClose={onClose}
    >
      <Autocomplete
        label="Category"
        data={known}
        value={category}
        onChange={setCategory}
        data-autofocus
        openOnFocus={false}
        maxLength={500}
      />
    </ReasonDialog>
  );
}
