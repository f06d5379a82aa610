import { Button, FileInput, Select, TextInput } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, type Schemas, take } from '../api/client';
import { Problem } from '../parts/Problem';
import { amount, many } from '../parts/words';
import { Imports } from './Imports';

/** Imports machines and readings from a file; what it would add, change and skip is shown before. */
export function ImportPage() {
  const queries = useQueryClient();
  const [file, setFile] = useState<File | null>(null);
  const [mapping, setMapping] = useState<File | null>(null);
  const [source, setSource] = useState('import');
  const [seen, setSeen] = useState<string | null>('column');
  const [seenAt, setSeenAt] = useState('');
  const [encoding, setEncoding] = useState<string | null>('utf-8');
  const send = useMutation({
    mutationFn: (dry: boolean) => {
      const form = new FormData();
      form.append('file', file as File);
      if (mapping) form.append('mapping', mapping);
      const query = {
        dry,
        source: source.trim() || undefined,
        seen: seen === 'now' ? 'now' : seen === 'at' ? seenAt.trim() : undefined,
        encoding: encoding ?? undefined,
        format: file?.name.endsWith('.jsonl') ? 'jsonl' : undefined,
      };
      return take(
        api.POST('/api/v1/fleet/imports', { params: { query }, body: form as never, bodySerializer: (body: unknown) => body as FormData }),
      );
    },
    onSuccess: (report) => {
      if (!report.dry) queries.invalidateQueries();
    },
  });
  const report = send.data;
  // A preview belongs to the file and the options that were chosen for it.
  const change =
    <T,>(set: (value: T) => void) =>
    (value: T) => {
      send.reset();
      set(value);
    };
  return (
    <>
      <h1>Import machines</h1>
      <p className="under">
        A CSV file whose first line names the columns, or JSON Lines. A mapping names the columns of other systems; the service has examples
        in docs/readings.md.
      </p>
      <div className="columns wide-right">
        <section className="card form">
          <FileInput
            label="File"
            placeholder="Choose a file …"
            value={file}
            onChange={change(setFile)}
            accept=".csv,.jsonl,.txt"
            clearable
          />
          <FileInput
            label="Mapping"
            description="Optional, YAML"
            placeholder="None"
            value={mapping}
            onChange={change(setMapping)}
            accept=".yaml,.yml"
            clearable
            mt="sm"
          />
          <TextInput
            label="Source"
            description="The system that the readings come from"
            value={source}
            onChange={(e) => change(setSource)(e.currentTarget.value)}
            mt="sm"
          />
          <Select
            label="When the readings were taken"
            data={[
              { value: 'column', label: 'as the file’s column ‘seen’ says' },
              { value: 'now', label: 'now' },
              { value: 'at', label: 'at a stated time' },
            ]}
            value={seen}
            onChange={change(setSeen)}
            allowDeselect={false}
            mt="sm"
          />
          {seen === 'at' && (
            <TextInput
              label="Time"
              placeholder="2027-01-11T08:00:00Z"
              value={seenAt}
              onChange={(e) => change(setSeenAt)(e.currentTarget.value)}
              mt="sm"
            />
          )}
          <Select
            label="Encoding"
            data={['utf-8', 'windows-1252']}
            value={encoding}
            onChange={change(setEncoding)}
            allowDeselect={false}
            mt="sm"
          />
          <div className="dialog-actions">
            <Button
              variant={report?.dry ? 'default' : undefined}
              className={report?.dry ? '' : 'acts'}
              disabled={!file}
              loading={send.isPending}
              onClick={() => send.mutate(true)}
            >
              Preview
            </Button>
            {report?.dry && (
              <Button className="acts" loading={send.isPending} onClick={() => send.mutate(false)}>
                Import {amount(report.added + report.updated)} machines
              </Button>
            )}
          </div>
        </section>
        <div className="stack">
          {send.error ? <Problem of={send.error} /> : report && <Report of={report} />}
          <Imports />
        </div>
      </div>
    </>
  );
}

function Report({ of }: { of: Schemas['ImportReport'] }) {
  const problems = of.groups.reduce((sum, group) => sum + group.count, 0);
  return (
    <section className="card" aria-live="polite">
      <h2>
        <span>
          {of.dry ? 'Would add' : 'Added'} {many(of.added, 'machine')} and {of.dry ? 'update' : 'updated'} {amount(of.updated)}
        </span>
        {!of.dry && <Link to="/fleet">the fleet</Link>}
      </h2>
      <p>
        {many(of.lines, 'line')} read, {problems === 0 ? 'no problems' : many(problems, 'problem')}.
        {of.dry && ' Nothing has been imported yet.'}
      </p>
      {of.groups.length > 0 && (
        <table>
          <thead>
            <tr>
              <th className="num">Problems</th>
              <th>What</th>
              <th className="num">First in line</th>
              <th>Example</th>
            </tr>
          </thead>
          <tbody>
            {of.groups.map((group) => (
              <tr key={`${group.what} ${group.firstLine}`}>
                <td className="num">{amount(group.count)}</td>
                <td>{group.what}</td>
                <td className="num">{amount(group.firstLine)}</td>
                <td className="quiet">{group.example}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
