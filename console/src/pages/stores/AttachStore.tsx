import { Button, Modal, TextInput } from '@mantine/core';
import { useState } from 'react';
import { useAttachStore } from '../../api/hooks';
import { count } from '../../ui/format';
import { Problem } from '../../ui/Page';

/** Takes a store that lies in a folder already into the charter. */
export function AttachStore({ close }: { close: () => void }) {
  const [name, setName] = useState('');
  const [folder, setFolder] = useState('');
  const [keyFile, setKeyFile] = useState('');
  const [passphraseFile, setPassphraseFile] = useState('');
  const attach = useAttachStore();
  return (
    <Modal opened onClose={close} title="Attach a store">
      {attach.data ? (
        <>
          <p style={{ marginTop: 0 }}>
            Store {attach.data.store.name} is attached: {count(attach.data.store.copies, 'copy', 'copies')},{' '}
            {attach.data.learned} of them new to the catalogue. Check the store to read them back.
          </p>
          {attach.data.problems.map((p) => (
            <div key={p} className="tone-failed">
              {p}
            </div>
          ))}
          <div style={{ display: 'flex', justifyContent: 'flex-end' }}>
            <Button size="xs" onClick={close}>
              Done
            </Button>
          </div>
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            attach.mutate({
              name,
              folder,
              keyFile: keyFile.trim() || null,
              passphraseFile: passphraseFile.trim() || null,
            });
          }}
        >
          <p className="soft" style={{ marginTop: 0 }}>
            A store knows its own copies: one that lies in a folder of the service’s machine is taken into the charter,
            and what it holds into the catalogue.
          </p>
          <TextInput
            label="Name"
            required
            data-autofocus
            placeholder="attic"
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
          />
          <TextInput
            mt="sm"
            label="Folder"
            required
            placeholder="/srv/stores/attic"
            value={folder}
            onChange={(e) => setFolder(e.currentTarget.value)}
          />
          <TextInput
            mt="sm"
            label="Key file"
            description="If the store is encrypted: its key file on the service’s machine."
            value={keyFile}
            onChange={(e) => setKeyFile(e.currentTarget.value)}
          />
          <TextInput
            mt="sm"
            label="Passphrase file"
            description="Or a file with its passphrase."
            value={passphraseFile}
            onChange={(e) => setPassphraseFile(e.currentTarget.value)}
          />
          <Problem error={attach.error} />
          <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 16 }}>
            <Button variant="default" size="xs" onClick={close}>
              Cancel
            </Button>
            <Button type="submit" size="xs" loading={attach.isPending}>
              Attach
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}
