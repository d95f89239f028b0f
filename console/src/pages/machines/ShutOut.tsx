import { Button, Modal, Textarea } from '@mantine/core';
import { useState } from 'react';
import { useShutOut } from '../../api/hooks';
import { Problem } from '../../ui/Page';

/** Takes a machine's right away, with the reason that whoever looks next reads. */
export function ShutOut({ machine, close }: { machine: string; close: () => void }) {
  const [reason, setReason] = useState('');
  const shut = useShutOut();
  return (
    <Modal opened onClose={close} title={`Shut out ${machine}`}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          shut.mutate({ name: machine, reason }, { onSuccess: close });
        }}
      >
        <p className="soft" style={{ marginTop: 0 }}>
          Its agent can do nothing more from this moment, and codes made for it are out of use. What it stored stays.
          Its jobs are still due, and are missed until it joins again.
        </p>
        <Textarea
          label="Why"
          required
          data-autofocus
          autosize
          value={reason}
          onChange={(e) => setReason(e.currentTarget.value)}
        />
        <Problem error={shut.error} />
        <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
          <Button variant="default" size="xs" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" size="xs" loading={shut.isPending} disabled={!reason.trim()}>
            Shut out
          </Button>
        </div>
      </form>
    </Modal>
  );
}
