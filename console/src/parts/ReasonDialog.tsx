import { Button, Modal, Textarea } from '@mantine/core';
import { type ReactNode, useEffect, useState } from 'react';

interface Props {
  title: string;
  what: ReactNode;
  act: string;
  busy: boolean;
  error: Error | null;
  /** What else is asked for, before the reason. */
  children?: ReactNode;
  /** What the text is; otherwise why. */
  ask?: string;
  /** What becomes of the text. */
  describes?: string;
  /** Whether no text is asked for. */
  without?: boolean;
  /** How wide it is. */
  size?: 'md' | 'lg';
  /** Whether all else that is asked for is there. */
  ready?: boolean;
  onAct: (reason: string) => void;
  onClose: () => void;
}

/** Asks for the reason of a command; it is kept with the caller's name. */
export function ReasonDialog({
  title,
  what,
  act,
  busy,
  error,
  children,
  ask = 'Why',
  describes = 'Recorded in the audit log with your name.',
  without = false,
  size = 'md',
  ready = true,
  onAct,
  onClose,
}: Props) {
  const [reason, setReason] = useState('');
  const [opener] = useState(() => document.activeElement);
  // The dialog is taken away at once, so that nothing else gives the focus back to what opened it.
  useEffect(
    () => () => {
      if (opener instanceof HTMLElement) opener.focus();
    },
    [opener],
  );
  return (
    <Modal.Root opened onClose={onClose} centered lockScroll={false} size={size}>
      <Modal.Overlay />
      <Modal.Content>
        {/* A header is a banner of the whole page otherwise. */}
        <Modal.Header role="presentation">
          <Modal.Title>{title}</Modal.Title>
          <Modal.CloseButton aria-label="Close" />
        </Modal.Header>
        <Modal.Body>
          <p>{what}</p>
          {children}
          {!without && (
            <Textarea
              label={ask}
              description={describes}
              value={reason}
              onChange={(e) => setReason(e.currentTarget.value)}
              data-autofocus={children ? undefined : true}
              autosize
              minRows={2}
              mt={children ? 'sm' : undefined}
            />
          )}
          <DialogActions
            act={act}
            busy={busy}
            error={error}
            ready={ready && (without || reason.trim() !== '')}
            onAct={() => onAct(reason)}
            onClose={onClose}
          />
        </Modal.Body>
      </Modal.Content>
    </Modal.Root>
  );
}

/** What went wrong, and the ways out: to leave it, or to do it. */
export function DialogActions({
  act,
  busy,
  error,
  ready,
  onAct,
  onClose,
}: Pick<Props, 'act' | 'busy' | 'error' | 'onClose'> & { ready: boolean; onAct: () => void }) {
  return (
    <>
      {error && (
        <p className="form-error" role="alert">
          {error.message}
        </p>
      )}
      <div className="dialog-actions">
        <Button variant="default" onClick={onClose}>
          Cancel
        </Button>
        <Button className="acts" disabled={!ready} loading={busy} onClick={onAct}>
          {act}
        </Button>
      </div>
    </>
  );
}
