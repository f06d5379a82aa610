import { useQuery } from '@tanstack/react-query';
import { api, take } from '../api/client';
import { bytes, time, word } from '../parts/words';
import { useMay } from '../session/useSession';

/** The archives of files that a run saved of its machine; nothing where there are none. */
export function SavedFiles({ run }: { run: string }) {
  const may = useMay();
  const saved = useQuery({
    queryKey: ['saved-files', run],
    queryFn: () => take(api.GET('/api/v1/runs/{run}/saved-files', { params: { path: { run } } })),
  });
  if (!saved.data || saved.data.length === 0) return null;
  return (
    <section className="card">
      <h2>Saved files</h2>
      <table>
        <tbody>
          {saved.data.map((archive) => (
            <tr key={`${archive.leg}/${archive.step}`}>
              <td>
                {may('GetSavedFiles') ? (
                  <a href={`/api/v1/runs/${run}/saved-files/${archive.step}?leg=${archive.leg}`} download>
                    {word(archive.step)}
                  </a>
                ) : (
                  word(archive.step)
                )}
              </td>
              <td>{time(archive.at)}</td>
              <td className="num nowrap">{bytes(archive.size)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
