import { Button, Modal, Textarea } from '@mantine/core';
import { useState } from 'react';
import { api, take } from '../../api/client';
import { useAct } from '../../api/hooks';
import { Problem } from '../../ui/Page';

/** Closes what nothing else will close: its job or store is gone, or its remedy cannot help. The reason is kept. */
export function CloseDialog({ id, close }: { id: number; close: () => void }) {
  const [reason, setReason] = useState('');
  const act = useAct(() => take(api.POST('/api/v1/alerts/{id}/close', { params: { path: { id } }, body: { reason } })));
  return (
    <Modal opened onClose={close} title="Close this alert">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          act.mutateAsync(undefined).then(close, () => undefined);
        }}
      >
        <p className="soft" style={{ marginTop: 0 }}>
          An alert closes by itself when its cause is over. Close it by hand only when nothing else will; if it happens
          again, it opens again.
        </p>
        <Textarea
          label="Why"
          required
          data-autofocus
          autosize
          value={reason}
          onChange={(e) => setReason(e.currentTarget.value)}
        />
        <Problem error={act.error} />
        <Button type="submit" size="xs" mt="md" loading={act.isPending} disabled={reason.trim().length < 3}>
          Close it
        </Button>
      </form>
    </Modal>
  );
}
