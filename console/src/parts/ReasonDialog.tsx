import { Button, Modal, Textarea } from '@mantine/core';
import { type ReactNode, useState } from 'react';

interface Props {
  title: string;
  what: ReactNode;
  act: string;
  busy: boolean;
  error: Error | null;
  /** What else is asked for, before the reason. */
  children?: ReactNode;
  /** Whether all else that is asked for is there. */
  ready?: boolean;
  onAct: (reason: string) => void;
  onClose: () => void;
}

/** Asks for the reason of a command; it is kept with the caller's name. */
export function ReasonDialog({ title, what, act, busy, error, children, ready = true, onAct, onClose }: Props) {
  const [reason, setReason] = useState('');
  return (
    <Modal opened onClose={onClose} title={title} centered lockScroll={false}>
      <p>{what}</p>
      {children}
      <Textarea
        label="Why"
        description="Kept with your name."
        value={reason}
        onChange={(e) => setReason(e.currentTarget.value)}
        data-autofocus
        autosize
        minRows={2}
        mt={children ? 'sm' : undefined}
      />
      {error && (
        <p className="form-error" role="alert">
          {error.message}
        </p>
      )}
      <div className="dialog-actions">
        <Button variant="default" onClick={onClose}>
          Leave it
        </Button>
        <Button className="acts" disabled={!ready || reason.trim() === ''} loading={busy} onClick={() => onAct(reason)}>
          {act}
        </Button>
      </div>
    </Modal>
  );
}
