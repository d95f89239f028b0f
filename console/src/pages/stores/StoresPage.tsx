import { Button } from '@mantine/core';
import { useState } from 'react';
import { Link } from 'react-router';
import type { Schemas } from '../../api/client';
import { useRuns, useStoreAct, useStores } from '../../api/hooks';
import { Size, When } from '../../ui/Facts';
import { count } from '../../ui/format';
import { Answer, Empty, Page, Problem } from '../../ui/Page';
import { Status } from '../../ui/Status';
import { AttachStore } from './AttachStore';
import { StoreKeys } from './StoreKeys';

type Store = Schemas['StoreAnswer'];

export function StoresPage() {
  const stores = useStores();
  const [attaching, setAttaching] = useState(false);
  return (
    <Page
      title="Stores"
      facts={stores.data && count(stores.data.length, 'store')}
      doing={
        <>
          <Button size="xs" variant="default" onClick={() => setAttaching(true)}>
            Attach a store
          </Button>
          <Button size="xs" component={Link} to="/settings/store/new">
            New store
          </Button>
        </>
      }
    >
      {attaching && <AttachStore close={() => setAttaching(false)} />}
      <Answer of={stores}>
        {(all) =>
          all.length === 0 ? (
            <div className="sheet">
              <Empty>
                No stores yet. <Link to="/settings/store/new">Make one</Link>, or{' '}
                <Link to="/settings/charter">paste a charter</Link>.
              </Empty>
            </div>
          ) : (
            <div className="columns many">
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
  const heal = useStoreAct('heals');
  const [keys, setKeys] = useState(false);
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
          {!store.reachable ? (
            <>
              <Status state="failed">unreachable</Status> {store.problem}
            </>
          ) : store.nearlyFull ? (
            <Status state="nearly-full">nearly full</Status>
          ) : (
            <Status state="ok">reachable</Status>
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
          {count(store.copies, 'copy', 'copies')}, <Size bytes={store.keptBytes} /> to restore
          {store.unsound > 0 && <span className="tone-failed">, {store.unsound} unsound</span>}
          {store.missing > 0 && <span className="tone-failed">, {store.missing} missing</span>}
        </dd>
        <dt>bin</dt>
        <dd>
          {store.inBin === 0 ? 'empty' : `${count(store.inBin, 'copy', 'copies')}`}
          {store.inBin > 0 && (
            <span className="soft">
              , about <Size bytes={store.inBinBytes} /> stored for them
            </span>
          )}
          <span className="soft">
            {' '}
            · kept for {store.bin} · reclaimed {store.reclaimWhen ?? 'on request'}
          </span>
        </dd>
        {store.names === null ? (
          <>
            <dt>last 30 days</dt>
            <dd>
              {store.reduction ? <Reduction of={store.reduction} /> : <span className="soft">nothing stored</span>}
            </dd>
          </>
        ) : (
          <>
            <dt>dated files</dt>
            <dd>
              <span className="mono">{store.names}</span>
              <span className="soft">
                , written by something else
                {store.others !== null &&
                  store.others > 0 &&
                  `; ${count(store.others, 'other entry', 'other entries')}, never touched`}
              </span>
            </dd>
          </>
        )}
        <dt>read back</dt>
        <dd>
          {store.reading && store.reading.totalBytes > 0 ? (
            <>
              {Math.floor((store.reading.readWithin30DaysBytes / store.reading.totalBytes) * 100)} % within 30 days
              {store.reading.oldest && (
                <span className="soft">
                  , the oldest part <When at={store.reading.oldest} />
                </span>
              )}
            </>
          ) : (
            'nothing yet'
          )}
          <span className="soft">
            {' '}
            · {store.verifyWhen ?? 'on request'}
            {store.verifyBudgetBytes !== null && (
              <>
                , up to <Size bytes={store.verifyBudgetBytes} />
              </>
            )}
          </span>
        </dd>
        <dt>checks</dt>
        <dd>
          <Checks store={store.name} />
        </dd>
        <dt>encryption</dt>
        <dd>
          {store.encryption === 'none' ? 'none: whoever can read the folder can read the copies' : store.encryption}
          {store.encryption !== null && store.encryption !== 'none' && (
            <>
              {' '}
              <Button size="compact-xs" variant="default" onClick={() => setKeys(true)}>
                Keys and passphrases
              </Button>
            </>
          )}
        </dd>
      </dl>
      <div style={{ padding: '0 14px 12px', display: 'flex', flexWrap: 'wrap', gap: 8 }}>
        <Button size="xs" variant="default" loading={busy} onClick={() => check.mutate(store.name)}>
          Check every byte
        </Button>
        <Button size="xs" variant="default" component={Link} to={`/settings/store/${store.name}`}>
          Change
        </Button>
        <Button size="xs" variant="default" loading={reclaim.isPending} onClick={() => reclaim.mutate(store.name)}>
          Reclaim the bin
        </Button>
        {store.unsound > 0 && (
          <Button size="xs" variant="default" loading={heal.isPending} onClick={() => heal.mutate(store.name)}>
            Heal from other stores
          </Button>
        )}
      </div>
      {keys && <StoreKeys store={store.name} close={() => setKeys(false)} />}
      <Problem error={check.error ?? reclaim.error ?? heal.error} />
    </section>
  );
}

/** The last checks of a store, newest first; each leads to what it found. */
function Checks({ store }: { store: string }) {
  const checks = useRuns({ kind: 'check', store, limit: 6 });
  if (!checks.data || checks.data.items.length === 0) return <>never</>;
  return (
    <span style={{ display: 'inline-flex', gap: '2px 12px', flexWrap: 'wrap' }}>
      {checks.data.items.map((c) => (
        <Link key={c.id} to={`/runs/${c.id}`}>
          <Status state={c.outcome ?? c.state}>
            <When at={c.ended ?? c.began ?? c.queued} />
          </Status>
        </Link>
      ))}
    </span>
  );
}

/** What was taken, what of it had changed, what of that the store lacked, and what that takes compressed. */
function Reduction({ of: r }: { of: Schemas['ReductionAnswer'] }) {
  const stages = [
    { what: 'taken', bytes: r.selectedBytes },
    { what: 'changed', bytes: r.readBytes },
    { what: 'new', bytes: r.newBytes },
    { what: 'stored', bytes: r.storedBytes },
  ];
  return (
    <div className="stages">
      {stages.map((s) => (
        <div key={s.what} style={{ display: 'contents' }}>
          <span className="soft">{s.what}</span>
          <div className="bar">
            <div style={{ width: `${(s.bytes / Math.max(1, r.selectedBytes)) * 100}%`, background: 'var(--idle)' }} />
          </div>
          <span className="num">
            <Size bytes={s.bytes} />
          </span>
        </div>
      ))}
    </div>
  );
}

/** Used, free and reserve of a store's capacity, on one bar. */
function Room({ store }: { store: Store }) {
  if (store.usedBytes === null || store.freeBytes === null) return null;
  const reserve = store.reserveBytes ?? 0;
  const all = store.capacityBytes ?? store.usedBytes + store.freeBytes + reserve;
  const share = (bytes: number) => `${Math.min(100, (bytes / Math.max(1, all)) * 100)}%`;
  return (
    <div
      className="bar room"
      role="img"
      aria-label={`${Math.round((store.usedBytes / Math.max(1, all)) * 100)} percent used, ${Math.round((reserve / Math.max(1, all)) * 100)} percent in reserve`}
    >
      <div style={{ width: share(store.usedBytes), background: store.nearlyFull ? 'var(--failed)' : 'var(--idle)' }} />
      <div style={{ width: share(reserve), marginLeft: 'auto' }} className="reserve" />
    </div>
  );
}
