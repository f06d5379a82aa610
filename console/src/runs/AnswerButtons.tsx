import { Button, Textarea } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas, take } from '../api/client';
import { ReasonDialog } from '../parts/ReasonDialog';
import { many } from '../parts/words';
import { useMay } from '../session/useSession';

interface Props {
  runs: Schemas['RunRow'][];
  /** Whether the buttons stand at the left. */
  start?: boolean;
  onAnswered?: () => void;
}

/** Answers what runs ask of a person: of one run, or of many at once. */
export function AnswerButtons({ runs, start = false, onAnswered }: Props) {
  const queries = useQueryClient();
  const may = useMay();
  const [answer, setAnswer] = useState<'done' | 'not-possible' | null>(null);
  const [note, setNote] = useState('');
  const send = useMutation({
    mutationFn: async (text: string) => {
      const answers = await Promise.allSettled(
        runs.map((run) =>
          take(
            api.POST('/api/v1/runs/{run}/answers', {
              params: { path: { run: run.run } },
              body: { answer: answer as string, note: text || null, step: run.asked?.step ?? null },
            }),
          ),
        ),
      );
      const refused = answers.filter((a) => a.status === 'rejected');
      if (refused.length > 0)
        throw new Error(`${refused.length} of ${runs.length} not answered: ${refused.map((a) => a.reason.message).join(' ')}`);
    },
    onSuccess: () => {
      setAnswer(null);
      onAnswered?.();
    },
    onSettled: () => queries.invalidateQueries(),
  });
  if (!may('AnswerRun')) return null;
  const words = [...new Set(runs.map((run) => run.asked?.words))];
  const of = runs.length === 1 ? runs[0]?.machine : many(runs.length, 'machine');
  const open = (how: 'done' | 'not-possible') => {
    setNote('');
    send.reset();
    setAnswer(how);
  };
  return (
    <span className={start ? 'actions start in-box' : 'actions'}>
      <Button className="acts" onClick={() => open('done')}>
        Done
      </Button>
      <Button variant="default" onClick={() => open('not-possible')}>
        Not possible
      </Button>
      {answer === 'done' && (
        <ReasonDialog
          title={`Done: ${of}`}
          what={words.length === 1 ? words[0] : words.map((w) => <span key={w}>{w} </span>)}
          act="Answer done"
          without
          busy={send.isPending}
          error={send.error}
          onAct={() => send.mutate(note.trim())}
          onClose={() => setAnswer(null)}
        >
          <Textarea
            label="Note"
            description="Optional: what you did or saw. Recorded with your name."
            value={note}
            onChange={(e) => setNote(e.currentTarget.value)}
            data-autofocus
            autosize
            minRows={2}
          />
        </ReasonDialog>
      )}
      {answer === 'not-possible' && (
        <ReasonDialog
          title={`Not possible: ${of}`}
          what="The run is parked, and whoever decides about it reads your note."
          act="Answer not possible"
          ask="Why it is not possible"
          describes="Recorded with your name."
          busy={send.isPending}
          error={send.error}
          onAct={(reason) => send.mutate(reason.trim())}
          onClose={() => setAnswer(null)}
        />
      )}
    </span>
  );
}
