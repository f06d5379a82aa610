import { Button, NativeSelect, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { type ReactNode, useEffect, useRef, useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { failed, Problem } from '../parts/Problem';
import { amount, bytes, many } from '../parts/words';

const FEW = 200;
const MANY = 5000;

/** What the scripts of a run printed, to be read and searched while they run; nothing before the first has printed. */
export function Outputs({ run }: { run: string }) {
  const [chosen, setChosen] = useState<string | null>(null);
  const outputs = useQuery({
    queryKey: ['outputs', run],
    queryFn: () => take(api.GET('/api/v1/runs/{run}/outputs', { params: { path: { run } } })),
    refetchInterval: 5000,
  });
  if (failed(outputs)) return <Problem of={outputs.error} />;
  const all = outputs.data ?? [];
  const output = all.find((o) => o.order === chosen) ?? all.at(-1);
  if (!output) return null;
  return (
    <section className="card" aria-label="Output">
      <h2>
        Output of the scripts{' '}
        <a href={`/api/v1/runs/${run}/outputs/${output.leg}/${output.step}/${output.attempt}/text`} download>
          Download, {bytes(output.bytes)}
        </a>
      </h2>
      <Lines
        key={output.order}
        run={run}
        output={output}
        choice={
          <NativeSelect
            aria-label="Step"
            value={output.order}
            onChange={(e) => setChosen(e.currentTarget.value)}
            data={all.map((o) => ({ value: o.order, label: labelOf(o, all) }))}
          />
        }
      />
    </section>
  );
}

/** The step's title, with its attempt where it has several. */
function labelOf(output: Schemas['OutputRow'], all: Schemas['OutputRow'][]): string {
  const several = all.some((o) => o.leg === output.leg && o.step === output.step && o.attempt !== output.attempt);
  return output.title + (several ? `, attempt ${output.attempt}` : '') + (output.running ? ' (running)' : '');
}

function Lines({ run, output, choice }: { run: string; output: Schemas['OutputRow']; choice: ReactNode }) {
  const [text, setText] = useState('');
  const [limit, setLimit] = useState(FEW);
  const [find] = useDebouncedValue(text.trim(), 300);
  const { leg, step, attempt } = output;
  const lines = useQuery({
    queryKey: ['output', output.order, find, limit],
    queryFn: () =>
      take(
        api.GET('/api/v1/runs/{run}/outputs/{leg}/{step}/{attempt}', {
          params: { path: { run, leg, step, attempt }, query: { limit, ...(find && { find }) } },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: output.running ? 3000 : false,
  });
  const view = lines.data;
  const end = useRef<HTMLPreElement>(null);
  const shown = view?.shown.length;
  // What was printed last is what is looked for.
  useEffect(() => {
    if (shown && !find) end.current?.scrollTo({ top: end.current.scrollHeight });
  }, [shown, find]);
  const rest = view ? view.matching - view.shown.length : 0;
  return (
    <>
      <div className="output-head">
        {choice}
        <TextInput
          aria-label="Find in the output"
          placeholder="Find a text"
          value={text}
          onChange={(e) => setText(e.currentTarget.value)}
        />
        <span className="quiet" role="status">
          {view && (find ? `${many(view.matching, 'line')} of ${amount(view.lines)}` : many(view.lines, 'line'))}
          {view?.output.cut && '; only the first 16 MiB are stored'}
        </span>
      </div>
      {lines.error && <Problem of={lines.error} />}
      {rest > 0 && limit < MANY && (
        <Button variant="subtle" size="compact-sm" onClick={() => setLimit(MANY)}>
          Show {amount(Math.min(rest, MANY - limit))} earlier
        </Button>
      )}
      {view && (
        <pre className="output" ref={end} tabIndex={0}>
          {view.shown.map((line) => (
            <div key={line.number} data-line={line.number}>
              {line.text || ' '}
            </div>
          ))}
        </pre>
      )}
    </>
  );
}
