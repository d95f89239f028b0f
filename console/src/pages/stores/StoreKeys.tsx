import { Button, Modal, TextInput } from '@mantine/core';
import { useState } from 'react';
import { useRecoverySheet, useStoreKeys, useWithdrawKey } from '../../api/hooks';
import { When } from '../../ui/Facts';
import { Answer, Problem } from '../../ui/Page';
import { Rows } from '../../ui/Rows';

/** What opens an encrypted store, and a new recovery sheet, which is shown once. */
export function StoreKeys({ store, close }: { store: string; close: () => void }) {
  const keys = useStoreKeys(store);
  const sheet = useRecoverySheet(store);
  const withdraw = useWithdrawKey(store);
  const [label, setLabel] = useState('');
  return (
    <Modal
      opened
      onClose={close}
      title={`What opens store ${store}`}
      size="lg"
      closeOnEscape={!sheet.data}
      closeOnClickOutside={!sheet.data}
      withCloseButton={!sheet.data}
    >
      {sheet.data ? (
        <>
          <p style={{ marginTop: 0 }}>This sheet is shown only once and is not stored. Print it and lock it away.</p>
          <pre className="paper" aria-label="Recovery sheet">
            {sheet.data.sheet}
          </pre>
          <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
            <Button size="xs" variant="default" onClick={() => window.print()}>
              Print
            </Button>
            <Button size="xs" onClick={() => sheet.reset()}>
              It is locked away
            </Button>
          </div>
        </>
      ) : (
        <>
          <Answer of={keys}>
            {(all) => (
              <Rows
                label={`Keys of store ${store}`}
                rows={all}
                rowKey={(k) => k.id}
                empty="The store is not encrypted."
                columns={[
                  { title: 'label', cell: (k) => k.label },
                  { title: 'kind', cell: (k) => k.kind.replaceAll('-', ' ') },
                  { title: 'made', cell: (k) => <When at={k.made} /> },
                  {
                    title: '',
                    num: true,
                    cell: (k) =>
                      k.usedByService ? (
                        <span className="soft">used by the service</span>
                      ) : (
                        <Button
                          size="compact-xs"
                          variant="default"
                          aria-label={`Withdraw ${k.label}`}
                          loading={withdraw.isPending && withdraw.variables === k.id}
                          onClick={() => withdraw.mutate(k.id)}
                        >
                          Withdraw
                        </Button>
                      ),
                  },
                ]}
              />
            )}
          </Answer>
          <form
            style={{ display: 'flex', gap: 8, alignItems: 'end', marginTop: 16 }}
            onSubmit={(e) => {
              e.preventDefault();
              sheet.mutate(label, { onSuccess: () => setLabel('') });
            }}
          >
            <TextInput
              style={{ flex: 1 }}
              label="New recovery sheet"
              description="A label, such as where it is locked away."
              value={label}
              onChange={(e) => setLabel(e.currentTarget.value)}
            />
            <Button type="submit" size="sm" variant="default" loading={sheet.isPending} disabled={!label.trim()}>
              Create
            </Button>
          </form>
          <p className="soft" style={{ marginBottom: 0 }}>
            A key file or another passphrase is added on the service’s machine, where no secret has to travel:{' '}
            <span className="mono">ironkeep store key add FOLDER</span>
          </p>
          <Problem error={sheet.error ?? withdraw.error} />
        </>
      )}
    </Modal>
  );
}
