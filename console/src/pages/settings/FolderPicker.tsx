import { Breadcrumbs, Button, Loader, Modal } from '@mantine/core';
import { IconFolder } from '@tabler/icons-react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take } from '../../api/client';
import { Problem } from '../../ui/Page';

/** Looks through the folders of the service's machine and chooses one. */
export function FolderPicker(props: { start: string; close: () => void; choose: (path: string) => void }) {
  const [path, setPath] = useState(props.start.startsWith('/') ? props.start : '/');
  const folder = useQuery({
    queryKey: ['folders', path],
    retry: false,
    queryFn: () => take(api.GET('/api/v1/folders', { params: { query: { path } } })),
  });
  const parts = path.split('/').filter(Boolean);
  return (
    <Modal opened onClose={props.close} title="Choose a folder" size="lg">
      <Breadcrumbs separatorMargin={4} style={{ flexWrap: 'wrap', marginBottom: 8 }}>
        {['', ...parts].map((name, i) => (
          <button key={i} type="button" className="fold" onClick={() => setPath(`/${parts.slice(0, i).join('/')}`)}>
            {name || '/'}
          </button>
        ))}
      </Breadcrumbs>
      <Problem error={folder.error} />
      <div className="folder-list" role="group" aria-label={`Folders in ${path}`}>
        {folder.isPending && <Loader size="sm" aria-label="Loading" />}
        {folder.data?.folders.map((name) => (
          <button key={name} type="button" onClick={() => setPath(path === '/' ? `/${name}` : `${path}/${name}`)}>
            <IconFolder size={15} stroke={1.6} aria-hidden /> {name}
          </button>
        ))}
        {folder.data?.folders.length === 0 && <div className="soft">There are no folders in it.</div>}
        {folder.data?.truncated && <div className="soft">There are more; type the path instead.</div>}
      </div>
      <div style={{ display: 'flex', justifyContent: 'flex-end', gap: 8, marginTop: 14 }}>
        <Button variant="default" size="xs" onClick={props.close}>
          Cancel
        </Button>
        <Button size="xs" disabled={!folder.data} onClick={() => props.choose(path)}>
          Choose {path}
        </Button>
      </div>
    </Modal>
  );
}
