import { Button, TextInput } from '@mantine/core';
import { useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { useSearchParams } from 'react-router';
import { api, type Schemas, ServiceProblem, take } from '../api/client';
import { Loading, Problem } from '../parts/Problem';
import { many, time } from '../parts/words';
import { useMay } from '../session/useSession';

const PART = 100;
const FIELDS = [
  ['actor', 'Who'],
  ['command', 'Command'],
  ['machine', 'Machine'],
] as const;

/** The audit log. */
export function AuditPage() {
  const may = useMay();
  const [params] = useSearchParams();
  const asked = Object.fromEntries(FIELDS.map(([name]) => [name, params.get(name) ?? undefined]));
  const audit = useInfiniteQuery({
    queryKey: ['audit', asked],
    queryFn: ({ pageParam }) =>
      take(api.GET('/api/v1/audit', { params: { query: { ...asked, limit: PART, cursor: pageParam ?? undefined } } })),
    initialPageParam: null as string | null,
    getNextPageParam: (last) => last.next,
  });
  const verify = useMutation({ mutationFn: () => take(api.GET('/api/v1/audit/verdict')) });
  if (audit.error instanceof ServiceProblem && audit.error.status === 403)
    return (
      <>
        <h1>Who did what</h1>
        <Problem of={audit.error} />
      </>
    );
  const entries = audit.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <>
      <h1>
        <b>{Number(audit.data?.pages[0]?.total ?? 0)}</b> commands
        {may('VerifyAudit') && (
          <>
            <Button className="acts beside" size="xs" loading={verify.isPending} onClick={() => verify.mutate()}>
              Verify integrity
            </Button>
            <Button component="a" href="/api/v1/audit/export" download variant="default" className="beside" size="xs">
              Export
            </Button>
          </>
        )}
      </h1>
      {verify.error && <Problem of={verify.error} />}
      {verify.data && <Verdict of={verify.data} />}
      <Filter />
      {audit.error ? (
        <Problem of={audit.error} />
      ) : !audit.data ? (
        <Loading />
      ) : (
        <section className="card scroll" tabIndex={0} aria-label="Commands">
          <table className="audit">
            <thead>
              <tr>
                <th className="num">#</th>
                <th>At</th>
                <th>Who</th>
                <th>Command</th>
                <th>To</th>
                <th>Before → after</th>
                <th>Why</th>
              </tr>
            </thead>
            <tbody>
              {entries.map((e) => (
                <tr key={Number(e.number)} className={e.command.endsWith('refused') ? 'refused' : undefined}>
                  <td className="num quiet">{Number(e.number)}</td>
                  <td className="nowrap">{time(e.at)}</td>
                  <td title={e.from}>
                    {e.actor}
                    {e.from && <div className="small quiet">{e.from}</div>}
                  </td>
                  <td>{e.command}</td>
                  <td>{subject(e)}</td>
                  <td className="change">
                    {e.before && <span className="clip">{e.before}</span>}
                    {e.before && e.after && ' → '}
                    {e.after && <span className="clip">{e.after}</span>}
                  </td>
                  <td className="change">{e.reason}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {entries.length === 0 && <p className="empty">No entries match.</p>}
          {audit.hasNextPage && (
            <Button variant="default" size="xs" mt="sm" loading={audit.isFetchingNextPage} onClick={() => audit.fetchNextPage()}>
              Show earlier ones
            </Button>
          )}
        </section>
      )}
    </>
  );
}

/** The subject of a command: a machine by its name, and which part of it. */
function subject(e: Schemas['AuditView']): string {
  if (!e.machine) return e.subject;
  return /^m\d+$/.test(e.subject) ? e.machine : `${e.subject} on ${e.machine}`;
}

function Verdict({ of }: { of: Schemas['AuditVerdict'] }) {
  if (of.faults.length === 0)
    return (
      <p className="told" role="status">
        Every one of {many(Number(of.entries), 'entry').replace('entrys', 'entries')} is unchanged
        {Number(of.unsealed) > 0 && `; the last ${Number(of.unsealed)} are being sealed`}. Head <code>{of.head.slice(0, 16)}…</code>, key{' '}
        <code>{of.key.slice(0, 16)}…</code>
      </p>
    );
  return (
    <div className="problem" role="alert">
      <strong>{of.faults.length === 1 ? 'One entry does' : `${of.faults.length} entries do`} not match its seal</strong>
      <ul className="rows">
        {of.faults.map((fault) => (
          <li key={`${fault.number} ${fault.what}`}>
            <b>#{Number(fault.number)}</b> {fault.what}
          </li>
        ))}
      </ul>
    </div>
  );
}

function Filter() {
  const [params, setParams] = useSearchParams();
  const [typed, setTyped] = useState<Record<string, string>>(() =>
    Object.fromEntries(FIELDS.map(([name]) => [name, params.get(name) ?? ''])),
  );
  const submit = (e: FormEvent) => {
    e.preventDefault();
    setParams(Object.fromEntries(Object.entries(typed).filter(([, value]) => value.trim() !== '')));
  };
  return (
    <form className="asked" onSubmit={submit}>
      {FIELDS.map(([name, label]) => (
        <TextInput
          key={name}
          size="xs"
          label={label}
          placeholder={name === 'command' ? 'plan, or plan start' : undefined}
          value={typed[name]}
          onChange={(e) => setTyped({ ...typed, [name]: e.currentTarget.value })}
        />
      ))}
      <Button type="submit" size="xs" variant="default">
        Apply filter
      </Button>
    </form>
  );
}
