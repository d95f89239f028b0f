import { Button, CopyButton, Modal, TextInput } from '@mantine/core';
import { useState } from 'react';
import { useEnrolMachine } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { Problem } from '../../ui/Page';

/** Makes the code with which a machine joins, and shows the command to give there. It is shown once. */
export function EnrolMachine({ machine, close }: { machine: string; close: () => void }) {
  const [name, setName] = useState(machine);
  const enrol = useEnrolMachine();
  return (
    <Modal opened onClose={close} title={machine ? `Enrol ${machine}` : 'Enrol a machine'} size="lg">
      {enrol.data ? (
        <>
          <p style={{ marginTop: 0 }}>
            Give this on {enrol.data.machine}, as root. It works once, and ends <When at={enrol.data.until} />.
          </p>
          {enrol.data.replaces && (
            <p className="tone-warned">
              {enrol.data.machine} has an agent already; it loses its right when another joins with this code.
            </p>
          )}
          <pre className="paper" aria-label="Command" style={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>
            {enrol.data.command}
          </pre>
          <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
            <CopyButton value={enrol.data.command}>
              {({ copied, copy }) => (
                <Button size="xs" variant="default" onClick={copy}>
                  {copied ? 'Copied' : 'Copy'}
                </Button>
              )}
            </CopyButton>
            <Button size="xs" onClick={close}>
              Done
            </Button>
          </div>
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            enrol.mutate(name.trim());
          }}
        >
          <p className="soft" style={{ marginTop: 0 }}>
            The agent of a machine joins with a code, which is good once and for an hour. From then on the service knows
            it by its key, and it can add copies of its own machine and nothing else.
          </p>
          <TextInput
            label="Machine"
            required
            data-autofocus
            placeholder="curlew"
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
          />
          <Problem error={enrol.error} />
          <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
            <Button variant="default" size="xs" onClick={close}>
              Cancel
            </Button>
            <Button type="submit" size="xs" loading={enrol.isPending}>
              Make the code
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}
