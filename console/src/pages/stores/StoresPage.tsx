import { Button } from '@mantine/core';
import { Link } from 'react-router';
import type { Schemas } from '../../api/client';
import { useStoreAct, useStores } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Empty, Page, Problem } from '../../ui/Page';
import { Status } from '../../ui/Status';

type Store = Schemas['StoreAnswer'];

export function StoresPage() {
  const stores = useStores();
  return (
    <Page title="Stores" facts={stores.data && count(stores.data.length, 'store')}>
      <Answer of={stores}>
        {(all) =>
          all.length === 0 ? (
            <div className="sheet">
              <Empty>
                No stores yet. <Link to="/settings">Write a charter</Link> that declares one.
              </Empty>
            </div>
          ) : (
            <div className="columns" style={{ gridTemplateColumns: 'repeat(auto-fit, minmax(420px, 1fr))' }}>
              {all.map((s) => (
                <OneStore key={s.name} store={s} />
              ))}
            </div>
          )
        }
      </Answer>
    </Page>
  );
}

function OneStore({ store }: { store: Store }) {
  const check = useStoreAct('checks');
  const reclaim = useStoreAct('reclaims');
  const busy = store.lastCheck !== null && store.lastCheck.state !== 'ended';
  return (
    <section className="sheet" aria-label={`Store ${store.name}`}>
      <h2>
        {store.name}
        <span className="facts mono">{store.folder}</span>
      </h2>
      <dl className="facts-grid">
        <dt>state</dt>
        <dd>
          {store.reachable ? (
            <Status state="ok">reachable</Status>
          ) : (
            <>
              <Status state="failed">unreachable</Status> {store.problem}
            </>
          )}
        </dd>
        <dt>room</dt>
        <dd>
          <Size bytes={store.usedBytes} /> used, <Size bytes={store.freeBytes} /> free
          {store.reserveBytes !== null && (
            <span className="soft">
              {' '}
              after a reserve of <Size bytes={store.reserveBytes} />
            </span>
          )}
          <Room store={store} />
        </dd>
        <dt>holds</dt>
        <dd>
          {count(store.copies, 'copy', 'copies')}, {store.inBin} in the bin (for {store.bin})
          {store.unsound > 0 && <span className="tone-failed">, {store.unsound} unsound</span>}
        </dd>
        <dt>last check</dt>
        <dd>
          {store.lastCheck ? (
            <>
              <Link to={`/runs/${store.lastCheck.id}`}>
                <Status state={store.lastCheck.outcome ?? store.lastCheck.state} />
              </Link>{' '}
              <span className="soft">
                <When at={store.lastCheck.ended ?? store.lastCheck.began} />
              </span>
            </>
          ) : (
            'never'
          )}
        </dd>
        <dt>encryption</dt>
        <dd>
          {store.encryption === 'none' ? 'none: whoever can read the folder can read the copies' : store.encryption}
        </dd>
      </dl>
      <div style={{ padding: '0 14px 12px', display: 'flex', gap: 8 }}>
        <Button size="xs" variant="default" loading={busy} onClick={() => check.mutate(store.name)}>
          Check every byte
        </Button>
        <Button size="xs" variant="default" loading={reclaim.isPending} onClick={() => reclaim.mutate(store.name)}>
          Reclaim the bin
        </Button>
      </div>
      <Problem error={check.error ?? reclaim.error} />
    </section>
  );
}

function Room({ store }: { store: Store }) {
  if (store.capacityBytes === null || store.usedBytes === null) return null;
  const used = Math.min(1, store.usedBytes / store.capacityBytes);
  return (
    <div className="bar" style={{ marginTop: 5 }} role="img" aria-label={`${Math.round(used * 100)} percent used`}>
      <div style={{ width: `${used * 100}%`, background: 'var(--idle)' }} />
    </div>
  );
}
