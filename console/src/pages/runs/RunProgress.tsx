import type { Run } from '../../api/client';
import { Size, When } from '../../ui/Facts';
import { count, took } from '../../ui/format';
import { Status } from '../../ui/Status';

/** The share of a running run that is done, by what earlier runs took; null when nothing is known. */
export function share(run: Run): number | null {
  const f = run.figures;
  if (run.kind === 'check' && f.selectedBytes > 0) return Math.min(1, f.readBytes / f.selectedBytes);
  return f.expectedBytes ? Math.min(1, f.selectedBytes / f.expectedBytes) : null;
}

/** A run at work: how far, how much, how fast. */
export function RunProgress({ run, brief }: { run: Run; brief?: boolean }) {
  const f = run.figures;
  const done = share(run);
  if (run.state === 'queued')
    return (
      <Status state="queued">
        {run.waitsFor ? (
          `waits for ${run.waitsFor}`
        ) : run.notBefore ? (
          <>
            waits until <When at={run.notBefore} />
          </>
        ) : (
          'waits for its turn'
        )}
      </Status>
    );
  return (
    <div style={{ minWidth: brief ? 150 : undefined }} role="status">
      <Status state="running">
        running{done !== null && `, ${Math.round(done * 100)} %`}
        {brief && <span className="soft"> {took(f.elapsedSeconds)}</span>}
      </Status>
      {done !== null && (
        <div className="bar" style={{ marginTop: 3 }}>
          <div style={{ width: `${done * 100}%` }} />
        </div>
      )}
      {!brief && (
        <div className="soft" style={{ marginTop: 6 }}>
          {count(f.items, 'item')}, <Size bytes={f.selectedBytes} />
          {f.expectedBytes !== null && (
            <>
              {' '}
              of about <Size bytes={f.expectedBytes} />
            </>
          )}
          , <Size bytes={f.readBytes} /> read, <Size bytes={f.storedBytes} /> stored, {took(f.elapsedSeconds)} so far
          {f.bytesPerSecond !== null && (
            <>
              , <Size bytes={Math.round(f.bytesPerSecond)} /> a second
            </>
          )}
          {f.remainingSeconds !== null && <>, about {took(f.remainingSeconds)} to go</>}
        </div>
      )}
    </div>
  );
}
