import { Button, Group, Modal, Textarea } from '@mantine/core';
import { useState, type ReactNode } from 'react';
import { useActingName } from '../shared/useActingName';
import type { Call } from '../shared/may';
import { Act } from './Act';
import { Trouble } from './Loaded';

/** What is asked before something is done: what it does, to whom, what is lost; the reason where one is needed. Nothing happens before its button. */
export function Confirm({
  title,
  children,
  reason,
  act,
  danger,
  pending,
  error,
  ready = true,
  call,
  onAct,
  onClose,
}: {
  title: string;
  children?: ReactNode;
  /** What the reason is for; not asked where it is left out. */
  reason?: { label: string; needed: boolean; hint?: string };
  act: string;
  danger?: boolean;
  pending: boolean;
  error: Error | null;
  ready?: boolean;
  /** The call that it makes. */
  call: Call;
  onAct: (reason: string) => void;
  onClose: () => void;
}) {
  const [why, setWhy] = useState('');
  const name = useActingName();
  const wanting = reason?.needed === true && why.trim() === '';
  return (
    <Modal opened onClose={onClose} title={title} closeButtonProps={{ 'aria-label': 'close' }}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (!wanting && ready) onAct(why.trim());
        }}
      >
        {children}
        {reason && (
          <Textarea
            label={reason.label}
            description={reason.hint}
            autosize
            minRows={2}
            value={why}
            onChange={(e) => setWhy(e.currentTarget.value)}
            data-autofocus
            mt="sm"
          />
        )}
        <Trouble of={error} />
        <Group mt="md" gap="sm">
          <Act call={call} type="submit" color={danger ? 'alarm' : undefined} disabled={wanting || !ready} loading={pending}>
            {act}
          </Act>
          <Button variant="default" onClick={onClose}>
            Not now
          </Button>
          <span className="soft">{name ? `as ${name}` : 'Say who you are first, at the top right.'}</span>
        </Group>
      </form>
    </Modal>
  );
}
