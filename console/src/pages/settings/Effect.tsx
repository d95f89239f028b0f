import { Tooltip } from '@mantine/core';
import type { Preview, Schemas } from '../../api/client';
import { Size, When, usePresent } from '../../ui/Facts';
import { count, short } from '../../ui/format';
import { Glyph, Status } from '../../ui/Status';
import { Change } from './Change';

/** What a draft would mean: its mistakes, or its difference, its due instants, its copies, what its paths hold. */
export function Effect({ kind, preview: p }: { kind: string; preview: Preview }) {
  const loose = p.mistakes.filter((m) => m.field === null);
  return (
    <>
      {p.mistakes.length > 0 && (
        <section className="sheet" aria-label="Mistakes">
          <h2>{count(p.mistakes.length, 'mistake')}</h2>
          {(loose.length > 0 ? loose : p.mistakes).map((m, i) => (
            <div key={i} style={{ padding: '8px 14px', borderBottom: '1px solid var(--line)' }}>
              <Status state="failed">{m.field ?? m.about}</Status> <span>{m.message}</span>
            </div>
          ))}
        </section>
      )}
      {p.nextDue.length > 0 && (
        <section className="sheet" aria-label="Next due">
          <h2>{kind === 'settings' ? 'The duty mail goes' : 'It would be due'}</h2>
          <table className="rows whole">
            <tbody>
              {p.nextDue.map((d) => (
                <tr key={d.utc}>
                  <td>
                    {d.local.slice(0, 16).replace('T', ' ')} {d.local.slice(19)}
                  </td>
                  <td className="soft">{d.utc.slice(0, 16).replace('T', ' ')} UTC</td>
                  <td className="num soft">
                    <When at={d.utc} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
      {(p.comesToKeep ?? '') !== '' && (
        <section className="sheet" aria-label="What it keeps">
          <h2>Its policy {p.comesToKeep}</h2>
          {p.policies.map((e) => (
            <Ladder key={`${e.job} ${e.store}`} effect={e} />
          ))}
          {p.policies.length === 0 && <div className="empty">No job uses it yet.</div>}
        </section>
      )}
      {p.paths.length > 0 && (
        <section className="sheet" aria-label="What it takes">
          <h2>Its paths hold</h2>
          <table className="rows">
            <tbody>
              {p.paths.map((x) => (
                <tr key={x.path}>
                  <td className="mono">{x.path}</td>
                  <td className="num">
                    {x.exists ? (
                      <>
                        {!x.counted && 'more than '}
                        {count(x.items, 'file')}, <Size bytes={x.bytes} />
                      </>
                    ) : (
                      <Status state="failed">does not exist</Status>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
      {p.roomBytes !== null && (
        <section className="sheet" style={{ padding: '10px 14px' }} aria-label="Room">
          Its file system has <Size bytes={p.roomBytes} /> of room.
        </section>
      )}
      {p.changes.length > 0 && (
        <section className="sheet" aria-label="What it would change">
          <h2>Saving would change</h2>
          {p.changes.map((c) => (
            <Change key={`${c.object} ${c.name}`} change={c} />
          ))}
        </section>
      )}
      <details className="sheet" style={{ padding: '9px 14px' }}>
        <summary>As it stands in the charter</summary>
        <pre className="mono" style={{ margin: '8px 0 0', whiteSpace: 'pre-wrap' }}>
          {p.yaml}
        </pre>
      </details>
    </>
  );
}

/** The copies that a job has now, newest on the right, each a mark with its verdict under the policy. */
function Ladder({ effect: e }: { effect: Schemas['PolicyEffectAnswer'] }) {
  const { zone } = usePresent();
  return (
    <div style={{ padding: '8px 14px', borderBottom: '1px solid var(--line)' }}>
      <div>
        <b>{e.job}</b> <span className="soft">in {e.store}:</span> {e.keeps} stay
        {e.expires > 0 ? <span className="tone-failed">, {e.expires} would go</span> : ', none would go'}
      </div>
      <div style={{ display: 'flex', flexWrap: 'wrap', gap: 2, marginTop: 4 }}>
        {[...e.copies]
          .reverse()
          .slice(-120)
          .map((c) => (
            <Tooltip
              key={c.copyId}
              label={`${short(c.taken, zone)}: ${c.verdict}; ${c.reasons.join('; ')}`}
              openDelay={30}
            >
              <span>
                <Glyph state={c.verdict} label={`${c.taken.slice(0, 10)}: ${c.verdict}`} />
              </span>
            </Tooltip>
          ))}
      </div>
    </div>
  );
}
