import { Button, Modal, Textarea } from '@mantine/core';
import { type ReactNode, useEffect, useState } from 'react';

interface Props {
  title: string;
  what: ReactNode;
  act: string;
  busy: boolean;
  error: Error | null;
  /** Further fields, above the reason. */
  children?: ReactNode;
  /** The label of the text field; 'Why' by default. */
  ask?: string;
  /** The description of the text field. */
  describes?: string;
  /** Whether there is no text field. */
  without?: boolean;
  /** The width of the dialog. */
  size?: 'md' | 'lg';
  /** Whether the further fields are complete. */
  ready?: boolean;
  onAct: (reason: string) => void;
  onClose: () => void;
}

/** Asks for the reason of a command, which goes to the audit log. */
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
  // The dialog is unmounted at once, so Mantine cannot return the focus to the element that opened it.
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
        {/* Otherwise the header counts as a banner landmark of the page. */}
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

/** The error of a dialog, and its two buttons. */
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
