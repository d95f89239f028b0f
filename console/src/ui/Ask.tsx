import { Button, Modal, Textarea, TextInput } from '@mantine/core';
import { useState } from 'react';
import { Problem } from './Page';

const inDays = (days: number) => new Date(Date.now() + days * 86_400_000).toISOString().slice(0, 10);

/** Asks for a reason and a day until which something holds; the day ends it at its local midnight. */
export function AskUntil(props: {
  title: string;
  does: string;
  days: number;
  children: React.ReactNode;
  pending: boolean;
  error: Error | null;
  close: () => void;
  act: (reason: string, until: string) => void;
}) {
  const [reason, setReason] = useState('');
  const [until, setUntil] = useState(() => inDays(props.days));
  return (
    <Modal opened onClose={props.close} title={props.title}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          props.act(reason, new Date(`${until}T00:00`).toISOString());
        }}
      >
        <p className="soft" style={{ marginTop: 0 }}>
          {props.children}
        </p>
        <Textarea
          label="Why"
          required
          data-autofocus
          autosize
          value={reason}
          onChange={(e) => setReason(e.currentTarget.value)}
        />
        <TextInput
          mt="sm"
          label="Until"
          type="date"
          required
          value={until}
          onChange={(e) => setUntil(e.currentTarget.value)}
        />
        <Problem error={props.error} />
        <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
          <Button variant="default" size="xs" onClick={props.close}>
            Cancel
          </Button>
          <Button type="submit" size="xs" loading={props.pending} disabled={reason.trim().length < 3}>
            {props.does}
          </Button>
        </div>
      </form>
    </Modal>
  );
}
