import { Button, Textarea } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, asYaml, type FileProblem, type Schemas, ServiceProblem, take } from '../api/client';
import { failed, Loading, Problem } from '../parts/Problem';
import { ReasonDialog } from '../parts/ReasonDialog';
import { many } from '../parts/words';
import { Comparison } from './Comparison';
import { PlanForm } from './PlanForm';
import { useSchedule } from './Schedule';

/** The line height of the text, as in its style. */
const LINE = 19;

/** Edits a plan as a form and as text, and shows what loading it would change. */
export function EditPage() {
  const { name } = useParams();
  return name === undefined ? <Editor start={start()} revision={0} /> : <Change key={name} name={name} />;
}

/** Edits an existing plan. */
function Change({ name }: { name: string }) {
  // The revision being edited stays, even if somebody loads a newer one meanwhile.
  const [from, setFrom] = useState<Schemas['PlanView']>();
  const plan = useQuery({
    queryKey: ['plan', name, 'to edit'],
    gcTime: 0,
    queryFn: () => take(api.GET('/api/v1/plans/{name}', { params: { path: { name } } })),
  });
  if (failed(plan)) return <Problem of={plan.error} />;
  if (!plan.data) return <Loading />;
  if (!from) {
    setFrom(plan.data);
    return <Loading />;
  }
  const { revision } = from.planning;
  return (
    <Editor
      key={revision}
      name={name}
      start={from.body}
      revision={revision}
      newer={plan.data.planning.revision > revision ? plan.data : undefined}
      onAnew={() => setFrom(plan.data)}
    />
  );
}

/** The text of a new plan. */
const start = () => `plan: new-plan
target: { product: "", release: "" }
scope: ""
methods: []
waves:
  - { name: Pilot, sample: 5 % }
  - name: Rest
windows:
  - { zone: ${Intl.DateTimeFormat().resolvedOptions().timeZone}, weekly: ["Mon-Fri 20:00-05:00"] }
limits: { all: 10, site: 3 }
advance: { verified: 95 %, failures: 2, soak: 3 d }
`;

function Editor({
  name,
  start,
  revision,
  newer,
  onAnew,
}: {
  name?: string;
  start: string;
  revision: number;
  newer?: Schemas['PlanView'];
  onAnew?: () => void;
}) {
  const [text, change, forget] = useKept(`plan ${name ?? ''} after ${revision}`, start);
  const [asked] = useDebouncedValue(text, 500);
  const [loading, setLoading] = useState(false);
  const area = useRef<HTMLTextAreaElement>(null);
  const go = useNavigate();
  const queries = useQueryClient();
  const isChanged = text !== start;
  const comparison = useQuery({
    queryKey: ['comparison', asked],
    enabled: asked !== start,
    retry: false,
    placeholderData: (before: Schemas['ComparisonView'] | undefined) => before,
    queryFn: () => take(api.POST('/api/v1/plans/compare', asYaml(asked))),
  });
  const now = useSchedule(name);
  const load = useMutation({
    mutationFn: (reason: string) =>
      name === undefined
        ? take(api.POST('/api/v1/plans', asYaml(text)))
        : take(api.PUT('/api/v1/plans/{name}', { params: { path: { name }, query: { reason, after: revision } }, ...asYaml(text) })),
    onSuccess: (view) => {
      forget();
      queries.invalidateQueries();
      go(`/plans/${view.plan.name}`);
    },
  });
  const isOfThis = asked === text && !comparison.isPlaceholderData;
  const isReady = isChanged && isOfThis && comparison.data !== undefined && comparison.error === null;
  const show = (problem: FileProblem) => {
    const at =
      text
        .split('\n')
        .slice(0, problem.line - 1)
        .join('\n').length + (problem.line > 1 ? 1 : 0);
    const end = text.indexOf('\n', at);
    if (!area.current) return;
    area.current.focus({ preventScroll: true });
    area.current.setSelectionRange(at + Math.max(0, problem.column - 1), end < 0 ? text.length : end);
    area.current.scrollTop = Math.max(0, problem.line - 4) * LINE;
  };
  return (
    <>
      <div className="title">
        <h1>
          {name === undefined ? (
            'A new plan'
          ) : (
            <>
              <Link to={`/plans/${name}`}>{name}</Link>: change revision {revision}
            </>
          )}
        </h1>
        <div className="title-acts">
          {isChanged && (
            <Button
              variant="default"
              onClick={() => {
                forget();
                change(start);
              }}
            >
              Discard changes
            </Button>
          )}
          <Button className="acts" disabled={!isReady} onClick={() => setLoading(true)}>
            {name === undefined ? 'Create the plan' : `Load it as revision ${revision + 1}`}
          </Button>
        </div>
      </div>
      <p className="under">
        Form and text show the same plan. Nothing is saved until you load it
        {name !== undefined && '; what has begun does not change'}.
      </p>
      {newer && (
        <p className="held">
          {newer.planning.revisedBy} has loaded revision {newer.planning.revision} meanwhile; your draft will not overwrite it.{' '}
          <button type="button" className="plain link" onClick={onAnew}>
            Start again from it
          </button>
        </p>
      )}
      <div className="columns halves">
        <PlanForm text={text} isNew={name === undefined} onChange={change} />
        <div className="stack in-sight">
          <section className="card" aria-label="What it would change">
            <h2>
              <span>{name === undefined ? 'What it would be' : 'What it would change'}</span>
              {isChanged && !isOfThis && <span className="quiet">looking …</span>}
            </h2>
            {!isChanged && (
              <p className="quiet">
                {name === undefined
                  ? 'Choose a product and its release, say which machines are in the scope, and choose a method.'
                  : 'Nothing yet.'}
              </p>
            )}
            {isChanged && comparison.error && <Wrong of={comparison.error} onShow={show} />}
            {isChanged && !comparison.error && comparison.data && <Comparison of={comparison.data} endBefore={now.data?.end} />}
          </section>
          <section className="card">
            <h2>The text</h2>
            <Textarea
              ref={area}
              aria-label="The plan's text"
              className="plan-text"
              spellCheck={false}
              autosize
              minRows={12}
              maxRows={30}
              value={text}
              onChange={(e) => change(e.currentTarget.value)}
            />
          </section>
        </div>
      </div>
      {loading && (
        <ReasonDialog
          title={name === undefined ? 'Create the plan' : `Load revision ${revision + 1} of ${name}`}
          what={
            name === undefined
              ? `${many(comparison.data?.machines ?? 0, 'machine')} are in it. Nothing begins before it is started.`
              : 'What has begun does not change. An approved plan needs another approval.'
          }
          act={name === undefined ? 'Create it' : 'Load it'}
          without={name === undefined}
          busy={load.isPending}
          error={load.error}
          onAct={(reason) => load.mutate(reason)}
          onClose={() => setLoading(false)}
        />
      )}
    </>
  );
}

/** The problems of the text; each leads to its line. */
function Wrong({ of, onShow }: { of: Error; onShow: (problem: FileProblem) => void }) {
  const problems = of instanceof ServiceProblem ? of.problems : [];
  if (problems.length === 0) return <p className="form-error">{of.message}</p>;
  return (
    <>
      <p className="held">{many(problems.length, 'thing is', 'things are')} not as expected:</p>
      <ul className="rows">
        {problems.map((p) => (
          <li key={`${p.line} ${p.message}`}>
            <button type="button" className="plain link" onClick={() => onShow(p)}>
              line {p.line}
            </button>{' '}
            {p.message}
          </li>
        ))}
      </ul>
    </>
  );
}

/** A draft in session storage: it survives leaving the page, in this tab. */
function useKept(key: string, start: string): [string, (text: string) => void, () => void] {
  const [text, setText] = useState(() => sessionStorage.getItem(key) ?? start);
  const change = (next: string) => {
    sessionStorage.setItem(key, next);
    setText(next);
  };
  return [text, change, () => sessionStorage.removeItem(key)];
}
