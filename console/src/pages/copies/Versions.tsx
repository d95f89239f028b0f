import { Button, Modal, SegmentedControl } from '@mantine/core';
import { useState } from 'react';
import { Link } from 'react-router';
import { useCopy, useVersions } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { Answer } from '../../ui/Page';
import { RestoreDialog } from './RestoreDialog';

/** Every version of one path: how long it was so, and the way to have it back. */
export function Versions(props: { job: string; stores: string[]; path: string; close: () => void }) {
  const [store, setStore] = useState(props.stores[0] ?? '');
  const versions = useVersions(props.job, store, props.path);
  const [restoring, setRestoring] = useState<string>();
  if (restoring) return <RestoreOne id={restoring} path={props.path} close={props.close} />;
  return (
    <Modal opened onClose={props.close} title="Versions" size="xl">
      <div className="mono" style={{ overflowWrap: 'anywhere', marginBottom: 10 }}>
        {props.path}
      </div>
      {props.stores.length > 1 && (
        <SegmentedControl size="xs" mb={10} aria-label="Store" data={props.stores} value={store} onChange={setStore} />
      )}
      <Answer of={versions}>
        {(all) => (
          <table className="rows">
            <thead>
              <tr>
                <th scope="col">modified</th>
                <th scope="col" className="num">
                  size
                </th>
                <th scope="col">in copies from</th>
                <th scope="col">to</th>
                <th scope="col" className="num">
                  copies
                </th>
                <th scope="col" />
              </tr>
            </thead>
            <tbody>
              {all.map((v) => (
                <tr key={v.copies[0]}>
                  <td>{v.kind === null ? <span className="soft">not there</span> : <When at={v.modified} />}</td>
                  <td className="num">{v.kind === 'file' ? <Size bytes={v.size} /> : v.kind}</td>
                  <td>
                    <When at={v.oldestTaken} />
                  </td>
                  <td>
                    <Link to={`/copies/${encodeURIComponent(v.copies[0] ?? '')}`}>
                      <When at={v.newestTaken} />
                    </Link>
                  </td>
                  <td className="num">{v.copies.length}</td>
                  <td className="num">
                    {v.kind !== null && (
                      <Button size="compact-xs" variant="default" onClick={() => setRestoring(v.copies[0])}>
                        Restore this
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Answer>
    </Modal>
  );
}

function RestoreOne({ id, path, close }: { id: string; path: string; close: () => void }) {
  const copy = useCopy(id);
  return copy.data ? <RestoreDialog copy={copy.data} paths={[path]} close={close} /> : null;
}
