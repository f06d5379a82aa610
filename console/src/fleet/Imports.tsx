import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { ReasonDialog } from '../parts/ReasonDialog';
import { amount, many, time } from '../parts/words';
import { useMay } from '../session/useSession';

type Import = Schemas['ImportView'];

/** The newest imports, each with what it did and the way to undo it. */
export function Imports() {
  const may = useMay();
  const [undoing, setUndoing] = useState<Import>();
  const imports = useQuery({ queryKey: ['imports'], queryFn: () => take(api.GET('/api/v1/fleet/imports')) });
  if (!imports.data || imports.data.length === 0) return null;
  return (
    <section className="card">
      <h2>Imports so far</h2>
      <table>
        <thead>
          <tr>
            <th>Source</th>
            <th>By</th>
            <th>Begun</th>
            <th className="num">Added</th>
            <th className="num">Updated</th>
            <th>State</th>
            <th>
              <span className="sr-only">Undo</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {imports.data.map((i) => (
            <tr key={i.import}>
              <td>{i.source}</td>
              <td>{i.actor}</td>
              <td className="nowrap">{time(i.begun)}</td>
              <td className="num">{amount(i.added)}</td>
              <td className="num">{amount(i.updated)}</td>
              <td>
                {i.undone
                  ? `undone on ${time(i.undone)} by ${i.undoneBy}`
                  : i.ended
                    ? 'done'
                    : `line ${amount(i.line)} of ${amount(i.lines)}; import the file again to go on`}
              </td>
              <td>
                {i.canBeUndone && i.ended && may('UndoImport') && (
                  <button
                    type="button"
                    className="plain link"
                    aria-label={`Undo the import of ${time(i.begun)}`}
                    onClick={() => setUndoing(i)}
                  >
                    Undo …
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {undoing && <UndoDialog of={undoing} onClose={() => setUndoing(undefined)} />}
    </section>
  );
}

function UndoDialog({ of, onClose }: { of: Import; onClose: () => void }) {
  const queries = useQueryClient();
  const undo = useMutation({
    mutationFn: (reason: string) =>
      take(api.POST('/api/v1/fleet/imports/{import}/undo', { params: { path: { import: of.import } }, body: { reason } })),
    onSuccess: async () => {
      await queries.invalidateQueries();
      onClose();
    },
  });
  return (
    <ReasonDialog
      title={`Undo the import of ${time(of.begun)}`}
      what={`${many(of.added, 'machine')} that it added leave the fleet. ${amount(of.updated)} that it updated have their values from before it again.`}
      act="Undo this import"
      busy={undo.isPending}
      error={undo.error}
      onAct={(reason) => undo.mutate(reason)}
      onClose={onClose}
    />
  );
}
